use crate::pdu::{check_range, registers_of, word_at};
use crate::{InvalidRequest, ReadData, ReadRequest, ResponseError, Table};

/// Writes holding registers and then reads holding registers, in one step inside the device.
///
/// Source: MODBUS Application Protocol V1.1b3, section 6.17.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadWriteRequest {
    read: ReadRequest,
    address: u16,
    registers: Vec<u16>,
}

impl ReadWriteRequest {
    pub(crate) const FUNCTION: u8 = 0x17;
    /// The most registers that it writes.
    pub const MAX_WRITTEN: u16 = 121;

    /// Writes `registers` from `address` on, and reads `quantity` registers from `from` on.
    ///
    /// # Errors
    /// [`InvalidRequest`] when a quantity or a last address is out of range.
    pub fn new(address: u16, registers: Vec<u16>, from: u16, quantity: u16) -> Result<Self, InvalidRequest> {
        check_range(address, registers.len(), Self::MAX_WRITTEN)?;
        Ok(Self { read: ReadRequest::new(Table::HoldingRegister, from, quantity)?, address, registers })
    }

    /// The reading half.
    #[must_use]
    pub const fn read(&self) -> ReadRequest {
        self.read
    }

    /// The first address written to, and what is written.
    #[must_use]
    pub fn written(&self) -> (u16, &[u16]) {
        (self.address, &self.registers)
    }

    pub(crate) fn encode(&self, out: &mut Vec<u8>) {
        let quantity = u16::try_from(self.registers.len()).unwrap_or(u16::MAX);
        out.push(Self::FUNCTION);
        for field in [self.read.address(), self.read.quantity(), self.address, quantity] {
            out.extend_from_slice(&field.to_be_bytes());
        }
        out.push(u8::try_from(self.registers.len() * 2).unwrap_or(u8::MAX));
        out.extend(self.registers.iter().flat_map(|register| register.to_be_bytes()));
    }

    pub(crate) fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        let size = |wanted| InvalidRequest::Size { function: Self::FUNCTION, got: pdu.len(), wanted };
        let field = |at| word_at(pdu, at).ok_or(size(10));
        let (from, quantity, address, written) = (field(1)?, field(3)?, field(5)?, field(7)?);
        check_range(address, written.into(), Self::MAX_WRITTEN)?;
        let wanted = usize::from(written) * 2;
        match pdu.get(9..).and_then(<[u8]>::split_first) {
            Some((count, data)) if usize::from(*count) == wanted && data.len() == wanted => {
                Self::new(address, registers_of(data), from, quantity)
            }
            _ => Err(size(10 + wanted)),
        }
    }

    pub(crate) fn encode_response(&self, data: &ReadData, out: &mut Vec<u8>) {
        let start = out.len();
        self.read.encode_response(data, out);
        // The same as a read of holding registers but for its function code.
        out.get_mut(start).into_iter().for_each(|function| *function = Self::FUNCTION);
    }

    pub(crate) fn decode_response(&self, rest: &[u8]) -> Result<ReadData, ResponseError> {
        self.read.decode_data(rest)
    }
}
