use crate::ExceptionCode;

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
