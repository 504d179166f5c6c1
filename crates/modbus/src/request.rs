use crate::diagnostic::DiagnosticRequest;
use crate::identify::{Identification, IdentifyRequest};
use crate::read_write::ReadWriteRequest;
use crate::write::WriteRequest;
use crate::{ExceptionCode, ReadData, ReadRequest};

/// A request of any function that this crate knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request {
    /// 01 to 04: reads bits or registers.
    Read(ReadRequest),
    /// 05, 06, 15, 16, 22: writes bits or registers.
    Write(WriteRequest),
    /// 23: writes registers, then reads registers.
    ReadWrite(ReadWriteRequest),
    /// 43/14: asks who the device is.
    Identify(IdentifyRequest),
    /// 08: asks for an echo, or for a counter.
    Diagnostic(DiagnosticRequest),
}

/// What a device answers when it does not refuse.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Response {
    /// To [`Request::Read`] and [`Request::ReadWrite`].
    Data(ReadData),
    /// To [`Request::Write`]: it was carried out.
    Written,
    /// To [`Request::Identify`].
    Identification(Identification),
    /// To [`Request::Diagnostic`]: the echo or the counter.
    Diagnostic(u16),
}

/// A request that the standard does not allow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum InvalidRequest {
    /// The function code is not known.
    #[error("function {0} is not known")]
    Function(u8),
    /// The PDU has not the bytes that its function takes.
    #[error("{got} bytes where function {function} takes {wanted}")]
    Size {
        /// The function code.
        function: u8,
        /// How many bytes there are.
        got: usize,
        /// How many there should be; the least number where it depends.
        wanted: usize,
    },
    /// Nothing, or more than fits a PDU, is asked for.
    #[error("quantity is {quantity}, possible are 1 to {max}")]
    Quantity {
        /// What was asked for.
        quantity: usize,
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
    /// A field has a value that the standard does not know.
    #[error("{field} is {value:04X}, which the standard does not know")]
    Field {
        /// Which one.
        field: &'static str,
        /// Its value.
        value: u16,
    },
}

impl InvalidRequest {
    /// What a server answers to it.
    ///
    /// Source: MODBUS Application Protocol V1.1b3, the state diagrams of section 6.
    #[must_use]
    pub fn exception(self) -> ExceptionCode {
        match self {
            Self::Function(_) | Self::Field { field: "MEI type" | "sub-function", .. } => {
                ExceptionCode::ILLEGAL_FUNCTION
            }
            Self::Size { .. } | Self::Quantity { .. } | Self::Field { .. } => ExceptionCode::ILLEGAL_DATA_VALUE,
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
    /// The answer must repeat a field of the request, and does not.
    #[error("the {field} of the answer is {got:04X} where the request has {wanted:04X}")]
    Echo {
        /// Which field.
        field: &'static str,
        /// What the answer says.
        got: u16,
        /// What the request says.
        wanted: u16,
    },
    /// Something follows the last field of the answer.
    #[error("{0} bytes follow the end of the answer")]
    Trailing(usize),
    /// The device says that more follows, and names what was asked for already: one would go round for ever.
    #[error("more is to follow from object {0:02X}, which was asked for already")]
    Endless(u8),
}

impl Request {
    /// The function code.
    #[must_use]
    pub const fn function(&self) -> u8 {
        match self {
            Self::Read(request) => request.table().read_function(),
            Self::Write(request) => request.function(),
            Self::ReadWrite(_) => ReadWriteRequest::FUNCTION,
            Self::Identify(_) => IdentifyRequest::FUNCTION,
            Self::Diagnostic(_) => DiagnosticRequest::FUNCTION,
        }
    }

    /// Whether all units of a line may carry it out at once, without an answer.
    ///
    /// Source: MODBUS over Serial Line V1.02, section 2.1: the broadcast requests are necessarily writing commands.
    #[must_use]
    pub const fn is_broadcastable(&self) -> bool {
        matches!(self, Self::Write(_))
    }

    /// The byte count that its answer announces, where that follows from the request.
    pub(crate) fn answer_byte_count(&self) -> Option<u8> {
        let read = match self {
            Self::Read(request) => *request,
            Self::ReadWrite(request) => request.read(),
            Self::Write(_) | Self::Identify(_) | Self::Diagnostic(_) => return None,
        };
        let quantity = read.quantity();
        u8::try_from(if read.table().is_bits() { quantity.div_ceil(8) } else { quantity * 2 }).ok()
    }

    /// Appends the request as a PDU.
    pub fn encode(&self, out: &mut Vec<u8>) {
        match self {
            Self::Read(request) => out.extend_from_slice(&request.encode()),
            Self::Write(request) => request.encode(out),
            Self::ReadWrite(request) => request.encode(out),
            Self::Identify(request) => out.extend_from_slice(&request.encode()),
            Self::Diagnostic(request) => out.extend_from_slice(&request.encode()),
        }
    }

    /// Reads a request PDU.
    ///
    /// # Errors
    /// [`InvalidRequest`], which knows the exception to answer with.
    pub fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        match pdu.first().copied().unwrap_or_default() {
            0x01..=0x04 => ReadRequest::decode(pdu).map(Self::Read),
            0x05 | 0x06 | 0x0F | 0x10 | 0x16 => WriteRequest::decode(pdu).map(Self::Write),
            ReadWriteRequest::FUNCTION => ReadWriteRequest::decode(pdu).map(Self::ReadWrite),
            IdentifyRequest::FUNCTION => IdentifyRequest::decode(pdu).map(Self::Identify),
            DiagnosticRequest::FUNCTION => DiagnosticRequest::decode(pdu).map(Self::Diagnostic),
            function => Err(InvalidRequest::Function(function)),
        }
    }

    /// Appends an answer to this request as a PDU. `false`, and nothing appended, when the answer is to another kind of
    /// request.
    #[must_use]
    pub fn encode_response(&self, response: &Response, out: &mut Vec<u8>) -> bool {
        match (self, response) {
            (Self::Read(request), Response::Data(data)) => request.encode_response(data, out),
            (Self::Write(request), Response::Written) => request.encode_response(out),
            (Self::ReadWrite(request), Response::Data(data)) => request.encode_response(data, out),
            (Self::Identify(request), Response::Identification(answer)) => request.encode_response(answer, out),
            (Self::Diagnostic(request), Response::Diagnostic(data)) => request.encode_response(*data, out),
            _ => return false,
        }
        true
    }

    /// Reads the answer to this request.
    ///
    /// # Errors
    /// [`ResponseError::Exception`] when the device refused; the others when it broke the protocol.
    pub fn decode_response(&self, pdu: &[u8]) -> Result<Response, ResponseError> {
        let rest = after_function(pdu, self.function())?;
        match self {
            Self::Read(request) => request.decode_data(rest).map(Response::Data),
            Self::Write(request) => request.decode_response(rest).map(|()| Response::Written),
            Self::ReadWrite(request) => request.decode_response(rest).map(Response::Data),
            Self::Identify(request) => request.decode_response(rest).map(Response::Identification),
            Self::Diagnostic(request) => request.decode_response(rest).map(Response::Diagnostic),
        }
    }
}

impl From<ReadRequest> for Request {
    fn from(request: ReadRequest) -> Self {
        Self::Read(request)
    }
}

impl From<WriteRequest> for Request {
    fn from(request: WriteRequest) -> Self {
        Self::Write(request)
    }
}

/// What follows the function code of an answer to `asked`.
pub(crate) fn after_function(pdu: &[u8], asked: u8) -> Result<&[u8], ResponseError> {
    let (got, rest) = pdu.split_first().ok_or(ResponseError::Missing("function code"))?;
    if *got == asked | 0x80 {
        let code = rest.first().ok_or(ResponseError::Missing("exception code"))?;
        return Err(ResponseError::Exception(ExceptionCode(*code)));
    }
    if *got != asked {
        return Err(ResponseError::Function { got: *got, asked });
    }
    Ok(rest)
}

/// Whether `quantity` addresses from `address` on exist, and are not more than one request takes.
pub(crate) const fn check_range(address: u16, quantity: usize, max: u16) -> Result<u16, InvalidRequest> {
    if quantity == 0 || quantity > max as usize {
        return Err(InvalidRequest::Quantity { quantity, max });
    }
    #[expect(clippy::cast_possible_truncation, reason = "not above `max`")]
    let quantity = quantity as u16;
    if address.checked_add(quantity - 1).is_none() {
        return Err(InvalidRequest::Address { address, quantity });
    }
    Ok(quantity)
}

/// The 16-bit fields of a PDU from its second byte on.
pub(crate) fn word_at(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..)?.first_chunk().map(|pair| u16::from_be_bytes(*pair))
}

/// Packs bits into bytes, the first one into the lowest bit.
pub(crate) fn pack_bits(bits: &[bool]) -> impl Iterator<Item = u8> + '_ {
    bits.chunks(8).map(|byte| byte.iter().rev().fold(0_u8, |packed, bit| packed << 1 | u8::from(*bit)))
}

/// The first `count` bits of some bytes.
pub(crate) fn unpack_bits(bytes: &[u8], count: u16) -> Vec<bool> {
    let bits = bytes.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1 == 1));
    bits.take(usize::from(count)).collect()
}

/// Registers out of pairs of bytes.
pub(crate) fn registers_of(bytes: &[u8]) -> Vec<u16> {
    let (pairs, _) = bytes.as_chunks::<2>();
    pairs.iter().map(|pair| u16::from_be_bytes(*pair)).collect()
}
