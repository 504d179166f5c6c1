use std::fmt;

/// Why a device refused a request.
///
/// Source: MODBUS Application Protocol V1.1b3, section 7.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ExceptionCode(pub u8);

impl ExceptionCode {
    /// The device does not know the function code.
    pub const ILLEGAL_FUNCTION: Self = Self(0x01);
    /// An address of the request does not exist in the device.
    pub const ILLEGAL_DATA_ADDRESS: Self = Self(0x02);
    /// The request is built wrongly, such as a quantity out of range.
    pub const ILLEGAL_DATA_VALUE: Self = Self(0x03);
    /// Something failed inside the device.
    pub const SERVER_DEVICE_FAILURE: Self = Self(0x04);
    /// The device needs long and asks not to be timed out.
    pub const ACKNOWLEDGE: Self = Self(0x05);
    /// The device is busy with a long command.
    pub const SERVER_DEVICE_BUSY: Self = Self(0x06);
    /// The device cannot carry the function out (older texts).
    pub const NEGATIVE_ACKNOWLEDGE: Self = Self(0x07);
    /// The extended memory failed its check.
    pub const MEMORY_PARITY_ERROR: Self = Self(0x08);
    /// The Modbus gateway found no path to the unit.
    pub const GATEWAY_PATH_UNAVAILABLE: Self = Self(0x0A);
    /// The unit behind the Modbus gateway did not answer.
    pub const GATEWAY_TARGET_NO_RESPONSE: Self = Self(0x0B);

    /// What the code means, in the standard's words; `None` for codes that it does not define.
    #[must_use]
    pub const fn meaning(self) -> Option<&'static str> {
        Some(match self {
            Self::ILLEGAL_FUNCTION => "illegal function",
            Self::ILLEGAL_DATA_ADDRESS => "illegal data address",
            Self::ILLEGAL_DATA_VALUE => "illegal data value",
            Self::SERVER_DEVICE_FAILURE => "server device failure",
            Self::ACKNOWLEDGE => "acknowledge",
            Self::SERVER_DEVICE_BUSY => "server device busy",
            Self::NEGATIVE_ACKNOWLEDGE => "negative acknowledge",
            Self::MEMORY_PARITY_ERROR => "memory parity error",
            Self::GATEWAY_PATH_UNAVAILABLE => "gateway path unavailable",
            Self::GATEWAY_TARGET_NO_RESPONSE => "gateway target device failed to respond",
            _ => return None,
        })
    }
}

impl fmt::Display for ExceptionCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.meaning() {
            Some(meaning) => write!(f, "exception {:02X}, {meaning}", self.0),
            None => write!(f, "exception {:02X}, not defined by the standard", self.0),
        }
    }
}
