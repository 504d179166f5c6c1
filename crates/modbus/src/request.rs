use crate::diagnostic::DiagnosticRequest;
use crate::error::{InvalidRequest, ResponseError};
use crate::identify::{Identification, IdentifyRequest};
use crate::pdu::after_function;
use crate::read_write::ReadWriteRequest;
use crate::write::WriteRequest;
use crate::{ReadData, ReadRequest};

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
