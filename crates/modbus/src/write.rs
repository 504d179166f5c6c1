use crate::pdu::{check_range, pack_bits, registers_of, unpack_bits, word_at};
use crate::{InvalidRequest, ResponseError};

/// What is written, and with which function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Written {
    /// 05: one coil.
    Coil(bool),
    /// 06: one holding register.
    Register(u16),
    /// 15: up to 1968 neighbouring coils.
    Coils(Vec<bool>),
    /// 16: up to 123 neighbouring holding registers.
    Registers(Vec<u16>),
    /// 22: some bits of one holding register, in one step inside the device: what it holds AND `and`, OR (`or` AND NOT
    /// `and`).
    Mask {
        /// Which bits stay.
        and: u16,
        /// What the others become.
        or: u16,
    },
}

/// A write of coils or holding registers; its range has been checked.
///
/// ```
/// use interlex_modbus::{InvalidRequest, Request, WriteRequest, Written};
///
/// // Bit 3 of a register, and nothing else of it, in one step inside the device.
/// let mask = Written::Mask { and: !(1 << 3), or: 1 << 3 };
/// let write = Request::from(WriteRequest::new(16, mask)?);
/// let mut pdu = Vec::new();
/// write.encode(&mut pdu);
/// assert_eq!(pdu, [0x16, 0, 16, 0xFF, 0xF7, 0, 0x08]);
/// assert!(WriteRequest::new(0, Written::Registers(vec![0; 124])).is_err());
/// # Ok::<(), InvalidRequest>(())
/// ```
///
/// Source: MODBUS Application Protocol V1.1b3, sections 6.5, 6.6, 6.11, 6.12 and 6.16.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriteRequest {
    address: u16,
    written: Written,
}

/// What function 05 says for on.
const ON: u16 = 0xFF00;

impl WriteRequest {
    /// The most coils of one request.
    pub const MAX_COILS: u16 = 1968;
    /// The most registers of one request.
    pub const MAX_REGISTERS: u16 = 123;

    /// A write at `address`.
    ///
    /// # Errors
    /// [`InvalidRequest`] when the quantity or the last address is out of range.
    pub fn new(address: u16, written: Written) -> Result<Self, InvalidRequest> {
        match &written {
            Written::Coil(_) | Written::Register(_) | Written::Mask { .. } => {}
            Written::Coils(bits) => {
                check_range(address, bits.len(), Self::MAX_COILS)?;
            }
            Written::Registers(registers) => {
                check_range(address, registers.len(), Self::MAX_REGISTERS)?;
            }
        }
        Ok(Self { address, written })
    }

    /// The first address, zero-based.
    #[must_use]
    pub const fn address(&self) -> u16 {
        self.address
    }

    /// What is written.
    #[must_use]
    pub const fn written(&self) -> &Written {
        &self.written
    }

    pub(crate) const fn function(&self) -> u8 {
        match self.written {
            Written::Coil(_) => 0x05,
            Written::Register(_) => 0x06,
            Written::Coils(_) => 0x0F,
            Written::Registers(_) => 0x10,
            Written::Mask { .. } => 0x16,
        }
    }

    /// What request and answer have in common: address, and value or quantity.
    fn fields(&self) -> (&'static str, u16) {
        let quantity = |count: usize| ("quantity", u16::try_from(count).unwrap_or(u16::MAX));
        match &self.written {
            Written::Coil(is_on) => ("value", if *is_on { ON } else { 0 }),
            Written::Register(value) => ("value", *value),
            Written::Coils(bits) => quantity(bits.len()),
            Written::Registers(registers) => quantity(registers.len()),
            Written::Mask { and, .. } => ("AND mask", *and),
        }
    }

    pub(crate) fn encode(&self, out: &mut Vec<u8>) {
        self.encode_response(out);
        let count = |bytes: usize| u8::try_from(bytes).unwrap_or(u8::MAX);
        match &self.written {
            Written::Coils(bits) => {
                out.push(count(bits.len().div_ceil(8)));
                out.extend(pack_bits(bits));
            }
            Written::Registers(registers) => {
                out.push(count(registers.len() * 2));
                out.extend(registers.iter().flat_map(|register| register.to_be_bytes()));
            }
            Written::Coil(_) | Written::Register(_) | Written::Mask { .. } => {}
        }
    }

    pub(crate) fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        let function = pdu.first().copied().unwrap_or_default();
        let size = |wanted| InvalidRequest::Size { function, got: pdu.len(), wanted };
        let (address, field) = word_at(pdu, 1).zip(word_at(pdu, 3)).ok_or(size(5))?;
        let body = pdu.get(5..).unwrap_or_default();
        let bare = |written| if body.is_empty() { Ok(written) } else { Err(size(5)) };
        let written = match function {
            0x05 => bare(Written::Coil(match field {
                ON => true,
                0 => false,
                value => return Err(InvalidRequest::Field { field: "value of function 05", value }),
            }))?,
            0x06 => bare(Written::Register(field))?,
            0x16 => match word_at(body, 0) {
                Some(or) if body.len() == 2 => Written::Mask { and: field, or },
                _ => return Err(size(7)),
            },
            _ => Self::decode_many(function == 0x0F, address, field, body, size)?,
        };
        Self::new(address, written)
    }

    fn decode_many(
        is_bits: bool,
        address: u16,
        quantity: u16,
        body: &[u8],
        size: impl Fn(usize) -> InvalidRequest,
    ) -> Result<Written, InvalidRequest> {
        let max = if is_bits { Self::MAX_COILS } else { Self::MAX_REGISTERS };
        check_range(address, quantity.into(), max)?;
        let wanted = if is_bits { usize::from(quantity).div_ceil(8) } else { usize::from(quantity) * 2 };
        let (count, data) = body.split_first().ok_or_else(|| size(6 + wanted))?;
        if usize::from(*count) != wanted || data.len() != wanted {
            return Err(size(6 + wanted));
        }
        Ok(if is_bits { Written::Coils(unpack_bits(data, quantity)) } else { Written::Registers(registers_of(data)) })
    }

    pub(crate) fn encode_response(&self, out: &mut Vec<u8>) {
        out.push(self.function());
        out.extend_from_slice(&self.address.to_be_bytes());
        out.extend_from_slice(&self.fields().1.to_be_bytes());
        if let Written::Mask { or, .. } = self.written {
            out.extend_from_slice(&or.to_be_bytes());
        }
    }

    /// The answer repeats the request, or its address and quantity.
    pub(crate) fn decode_response(&self, rest: &[u8]) -> Result<(), ResponseError> {
        let mut at = 0;
        let mut echo = |field, wanted| {
            let got = word_at(rest, at).ok_or(ResponseError::Missing(field))?;
            at += 2;
            if got == wanted { Ok(()) } else { Err(ResponseError::Echo { field, got, wanted }) }
        };
        echo("address", self.address)?;
        let (field, wanted) = self.fields();
        echo(field, wanted)?;
        if let Written::Mask { or, .. } = self.written {
            echo("OR mask", or)?;
        }
        match rest.len() - at {
            0 => Ok(()),
            more => Err(ResponseError::Trailing(more)),
        }
    }
}
