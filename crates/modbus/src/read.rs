use crate::ExceptionCode;

/// The four tables of the data model, each with its read function.
///
/// Source: MODBUS Application Protocol V1.1b3, sections 4.3 and 6.1 to 6.4.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Table {
    /// Function 01.
    Coil,
    /// Function 02.
    DiscreteInput,
    /// Function 03.
    HoldingRegister,
    /// Function 04.
    InputRegister,
}

impl Table {
    /// The function code that reads it.
    #[must_use]
    pub const fn read_function(self) -> u8 {
        match self {
            Self::Coil => 0x01,
            Self::DiscreteInput => 0x02,
            Self::HoldingRegister => 0x03,
            Self::InputRegister => 0x04,
        }
    }

    /// How many bits or registers one request may ask for, so that the answer fits a PDU.
    #[must_use]
    pub const fn max_quantity(self) -> u16 {
        match self {
            Self::Coil | Self::DiscreteInput => 2000,
            Self::HoldingRegister | Self::InputRegister => 125,
        }
    }

    /// Whether it holds bits and not registers.
    #[must_use]
    pub const fn is_bits(self) -> bool {
        matches!(self, Self::Coil | Self::DiscreteInput)
    }

    const fn from_function(function: u8) -> Option<Self> {
        match function {
            0x01 => Some(Self::Coil),
            0x02 => Some(Self::DiscreteInput),
            0x03 => Some(Self::HoldingRegister),
            0x04 => Some(Self::InputRegister),
            _ => None,
        }
    }
}

/// A read of neighbouring bits or registers of one table; its range has been checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ReadRequest {
    table: Table,
    address: u16,
    quantity: u16,
}

/// A read that the standard does not allow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum InvalidRead {
    /// The function code is none of 01 to 04.
    #[error("function {0} is no read function")]
    Function(u8),
    /// The PDU has not the five bytes of a read.
    #[error("a read request has 5 bytes, not {0}")]
    Size(usize),
    /// Nothing, or more than fits an answer, is asked for.
    #[error("quantity is {quantity}, possible are 1 to {max}")]
    Quantity {
        /// What was asked for.
        quantity: u16,
        /// The most that is possible.
        max: u16,
    },
    /// The last address would be past 65535.
    #[error("address {address} and quantity {quantity} run past 65535")]
    Address {
        /// The first address.
        address: u16,
        /// How many from there.
        quantity: u16,
    },
}

impl InvalidRead {
    /// What a server answers to it.
    ///
    /// Source: MODBUS Application Protocol V1.1b3, figures 11 to 14 (state diagrams of the read functions).
    #[must_use]
    pub const fn exception(self) -> ExceptionCode {
        match self {
            Self::Function(_) => ExceptionCode::ILLEGAL_FUNCTION,
            Self::Size(_) | Self::Quantity { .. } => ExceptionCode::ILLEGAL_DATA_VALUE,
            Self::Address { .. } => ExceptionCode::ILLEGAL_DATA_ADDRESS,
        }
    }
}

/// An answer that does not fit its request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ResponseError {
    /// The device refused the request.
    #[error("{0}")]
    Exception(ExceptionCode),
    /// The answer is to another function.
    #[error("function {got} answers a request of function {asked}")]
    Function {
        /// The function code of the answer.
        got: u8,
        /// The function code of the request.
        asked: u8,
    },
    /// The answer does not carry as many bytes as the request asks for.
    #[error("{got} bytes of data answer a request for {wanted}")]
    Size {
        /// How many bytes of data came.
        got: usize,
        /// How many the request asks for.
        wanted: usize,
    },
    /// The byte count in the answer is not that of the data in it.
    #[error("byte count {count} before {got} bytes of data")]
    ByteCount {
        /// The byte count field.
        count: u8,
        /// How many bytes follow it.
        got: usize,
    },
    /// The answer ends before a field that it must have.
    #[error("the answer ends before its {0}")]
    Missing(&'static str),
}

/// What a read brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReadData {
    /// Coils or discrete inputs, in the order of their addresses.
    Bits(Vec<bool>),
    /// Registers, in the order of their addresses.
    Registers(Vec<u16>),
}

impl ReadRequest {
    /// A read of `quantity` bits or registers from `address` on.
    ///
    /// # Errors
    /// [`InvalidRead`] when the quantity or the last address is out of range.
    pub const fn new(table: Table, address: u16, quantity: u16) -> Result<Self, InvalidRead> {
        let max = table.max_quantity();
        if quantity == 0 || quantity > max {
            return Err(InvalidRead::Quantity { quantity, max });
        }
        if address.checked_add(quantity - 1).is_none() {
            return Err(InvalidRead::Address { address, quantity });
        }
        Ok(Self { table, address, quantity })
    }

    /// The table read from.
    #[must_use]
    pub const fn table(&self) -> Table {
        self.table
    }

    /// The first address, zero-based.
    #[must_use]
    pub const fn address(&self) -> u16 {
        self.address
    }

    /// How many bits or registers.
    #[must_use]
    pub const fn quantity(&self) -> u16 {
        self.quantity
    }

    /// The request as a PDU.
    #[must_use]
    pub const fn encode(&self) -> [u8; 5] {
        let [a1, a0] = self.address.to_be_bytes();
        let [q1, q0] = self.quantity.to_be_bytes();
        [self.table.read_function(), a1, a0, q1, q0]
    }

    /// Reads a request PDU.
    ///
    /// # Errors
    /// [`InvalidRead`], which knows the exception to answer with.
    pub fn decode(pdu: &[u8]) -> Result<Self, InvalidRead> {
        let function = pdu.first().copied().unwrap_or_default();
        let table = Table::from_function(function).ok_or(InvalidRead::Function(function))?;
        let [_, a1, a0, q1, q0] = *pdu else { return Err(InvalidRead::Size(pdu.len())) };
        Self::new(table, u16::from_be_bytes([a1, a0]), u16::from_be_bytes([q1, q0]))
    }

    fn data_bytes(&self) -> usize {
        let quantity = usize::from(self.quantity);
        if self.table.is_bits() { quantity.div_ceil(8) } else { quantity * 2 }
    }

    /// Appends the answer that carries `data`, padded with zeros or cut to what was asked for.
    pub fn encode_response(&self, data: &ReadData, out: &mut Vec<u8>) {
        out.push(self.table.read_function());
        out.push(u8::try_from(self.data_bytes()).unwrap_or(u8::MAX));
        let end = out.len() + self.data_bytes();
        match data {
            ReadData::Bits(bits) => {
                let pack = |byte: &[bool]| byte.iter().rev().fold(0_u8, |packed, bit| packed << 1 | u8::from(*bit));
                out.extend(bits.chunks(8).map(pack));
            }
            ReadData::Registers(registers) => out.extend(registers.iter().flat_map(|register| register.to_be_bytes())),
        }
        out.resize(end, 0);
    }

    /// Reads the answer to this request.
    ///
    /// # Errors
    /// [`ResponseError::Exception`] when the device refused; the others when it broke the protocol.
    pub fn decode_response(&self, pdu: &[u8]) -> Result<ReadData, ResponseError> {
        let asked = self.table.read_function();
        let (got, rest) = pdu.split_first().ok_or(ResponseError::Missing("function code"))?;
        if *got == asked | 0x80 {
            let code = rest.first().ok_or(ResponseError::Missing("exception code"))?;
            return Err(ResponseError::Exception(ExceptionCode(*code)));
        }
        if *got != asked {
            return Err(ResponseError::Function { got: *got, asked });
        }
        let (count, data) = rest.split_first().ok_or(ResponseError::Missing("byte count"))?;
        if usize::from(*count) != data.len() {
            return Err(ResponseError::ByteCount { count: *count, got: data.len() });
        }
        if data.len() != self.data_bytes() {
            return Err(ResponseError::Size { got: data.len(), wanted: self.data_bytes() });
        }
        Ok(if self.table.is_bits() {
            let bits = data.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1 == 1));
            ReadData::Bits(bits.take(usize::from(self.quantity)).collect())
        } else {
            let (pairs, _) = data.as_chunks::<2>();
            ReadData::Registers(pairs.iter().map(|pair| u16::from_be_bytes(*pair)).collect())
        })
    }
}
