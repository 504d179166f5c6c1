use crate::pdu::{after_function, check_range, pack_bits, registers_of, unpack_bits};
use crate::{InvalidRequest, ResponseError};

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
///
/// ```
/// use interlex_modbus::{InvalidRequest, ReadData, ReadRequest, ResponseError, Table};
///
/// // 40001 of a device manual is the holding register at the zero-based address 0.
/// let read = ReadRequest::new(Table::HoldingRegister, 0, 2)?;
/// assert_eq!(read.encode(), [0x03, 0, 0, 0, 2]);
/// assert_eq!(read.decode_response(&[0x03, 4, 0x42, 0xC8, 0, 0]), Ok(ReadData::Registers(vec![0x42C8, 0])));
/// assert!(matches!(read.decode_response(&[0x83, 0x02]), Err(ResponseError::Exception(_))));
/// // What the standard does not allow is not asked.
/// assert!(ReadRequest::new(Table::HoldingRegister, 0, 126).is_err());
/// assert!(ReadRequest::new(Table::Coil, 65_535, 2).is_err());
/// # Ok::<(), InvalidRequest>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ReadRequest {
    table: Table,
    address: u16,
    quantity: u16,
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
    /// [`InvalidRequest`] when the quantity or the last address is out of range.
    pub const fn new(table: Table, address: u16, quantity: u16) -> Result<Self, InvalidRequest> {
        match check_range(address, quantity as usize, table.max_quantity()) {
            Ok(quantity) => Ok(Self { table, address, quantity }),
            Err(error) => Err(error),
        }
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
    /// [`InvalidRequest`], which knows the exception to answer with.
    pub fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        let function = pdu.first().copied().unwrap_or_default();
        let table = Table::from_function(function).ok_or(InvalidRequest::Function(function))?;
        let [_, a1, a0, q1, q0] = *pdu else {
            return Err(InvalidRequest::Size { function, got: pdu.len(), wanted: 5 });
        };
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
            ReadData::Bits(bits) => out.extend(pack_bits(bits)),
            ReadData::Registers(registers) => out.extend(registers.iter().flat_map(|register| register.to_be_bytes())),
        }
        out.resize(end, 0);
    }

    /// Reads the answer to this request.
    ///
    /// # Errors
    /// [`ResponseError::Exception`] when the device refused; the others when it broke the protocol.
    pub fn decode_response(&self, pdu: &[u8]) -> Result<ReadData, ResponseError> {
        self.decode_data(after_function(pdu, self.table.read_function())?)
    }

    /// Reads byte count and data.
    pub(crate) fn decode_data(&self, rest: &[u8]) -> Result<ReadData, ResponseError> {
        let (count, data) = rest.split_first().ok_or(ResponseError::Missing("byte count"))?;
        if usize::from(*count) != data.len() {
            return Err(ResponseError::ByteCount { count: *count, got: data.len() });
        }
        if data.len() != self.data_bytes() {
            return Err(ResponseError::Size { got: data.len(), wanted: self.data_bytes() });
        }
        Ok(match self.table.is_bits() {
            true => ReadData::Bits(unpack_bits(data, self.quantity)),
            false => ReadData::Registers(registers_of(data)),
        })
    }
}
