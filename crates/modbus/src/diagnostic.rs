use crate::pdu::word_at;
use crate::{InvalidRequest, ResponseError};

/// Asks a unit for an echo, or for one of its counters.
///
/// Source: MODBUS Application Protocol V1.1b3, section 6.8.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DiagnosticRequest {
    /// What is asked for; 0 is an echo, 0B to 12 (hexadecimal) are the counters of the serial line.
    pub sub_function: u16,
    /// What comes back from an echo; 0 for the others.
    pub data: u16,
}

impl DiagnosticRequest {
    pub(crate) const FUNCTION: u8 = 0x08;
    /// The sub-function that sends back what it got.
    pub const RETURN_QUERY_DATA: u16 = 0;

    /// A request for an echo of `data`.
    #[must_use]
    pub const fn echo(data: u16) -> Self {
        Self { sub_function: Self::RETURN_QUERY_DATA, data }
    }

    pub(crate) const fn encode(self) -> [u8; 5] {
        let ([s1, s0], [d1, d0]) = (self.sub_function.to_be_bytes(), self.data.to_be_bytes());
        [Self::FUNCTION, s1, s0, d1, d0]
    }

    pub(crate) fn decode(pdu: &[u8]) -> Result<Self, InvalidRequest> {
        match (pdu.len(), word_at(pdu, 1), word_at(pdu, 3)) {
            (5, Some(sub_function), Some(data)) => Ok(Self { sub_function, data }),
            (got, ..) => Err(InvalidRequest::Size { function: Self::FUNCTION, got, wanted: 5 }),
        }
    }

    pub(crate) fn encode_response(self, data: u16, out: &mut Vec<u8>) {
        out.extend_from_slice(&Self { data, ..self }.encode());
    }

    pub(crate) fn decode_response(self, rest: &[u8]) -> Result<u16, ResponseError> {
        let echo = |field, got, wanted| match got == wanted {
            true => Ok(()),
            false => Err(ResponseError::Echo { field, got, wanted }),
        };
        echo("sub-function", word_at(rest, 0).ok_or(ResponseError::Missing("sub-function"))?, self.sub_function)?;
        let data = word_at(rest, 2).ok_or(ResponseError::Missing("data"))?;
        if self.sub_function == Self::RETURN_QUERY_DATA {
            echo("data", data, self.data)?;
        }
        match rest.len() {
            4 => Ok(data),
            more => Err(ResponseError::Trailing(more - 4)),
        }
    }
}
