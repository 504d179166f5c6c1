use std::fmt;

/// How far a value can be trusted, and if not fully, why.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Quality {
    /// Read from the device, in range, just now.
    Good,
    /// As good, and the field says something of it that is to be known: set by hand at the device, say.
    Noted(Reason),
    /// There is a value, but something speaks against it.
    Uncertain(Reason),
    /// There is no value to act on; what is shown is the last one known, if any.
    Bad(Reason),
}

/// Why a quality is not good, or what is to be known of one that is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reason {
    /// Nothing was read since the gateway started.
    NeverRead,
    /// The link to the device is not connected.
    LinkDown,
    /// The device did not answer in time.
    Timeout,
    /// A Modbus device refused the read, with this exception code.
    Modbus(u8),
    /// What an OPC UA server says of the value: a StatusCode.
    OpcUa(u32),
    /// What a DNP3 outstation says of the value.
    Dnp3 {
        /// The flags of its object.
        flags: u8,
        /// What the point is, by its group of objects as they are now: what some flags mean depends on that.
        group: u8,
    },
    /// What a BACnet device says of the value.
    Bacnet {
        /// Its status flags, in-alarm in the lowest bit.
        flags: u8,
        /// Its reliability, as the standard numbers it.
        reliability: u16,
    },
    /// A BACnet device refused the read.
    BacnetError {
        /// The class of its error.
        class: u16,
        /// The code of its error.
        code: u16,
    },
    /// The device answered something that its protocol does not allow.
    ProtocolError,
    /// The value lies outside the limits of the point.
    OutOfRange,
    /// The device sent a NaN.
    NotANumber,
    /// The device sent an infinity, or the scale made one.
    Infinite,
    /// A digit of packed BCD is above nine.
    NotDecimal,
    /// Answers came cut, or with a wrong check.
    Garbled,
    /// Not read again since the link came up.
    NotReadYet,
    /// The value was not refreshed for several periods.
    Stale,
    /// A person set the value by hand.
    Manual,
    /// The device had no room for changes, and lost some.
    Overflow,
}

impl Quality {
    /// Whether the value may be acted on without a second look.
    #[must_use]
    pub const fn is_good(self) -> bool {
        matches!(self, Self::Good | Self::Noted(_))
    }

    /// Whether there is no current value.
    #[must_use]
    pub const fn is_bad(self) -> bool {
        matches!(self, Self::Bad(_))
    }

    /// `good`, `uncertain` or `bad`.
    #[must_use]
    pub const fn class(self) -> &'static str {
        match self {
            Self::Good | Self::Noted(_) => "good",
            Self::Uncertain(_) => "uncertain",
            Self::Bad(_) => "bad",
        }
    }

    /// The reason, when it is not simply good.
    #[must_use]
    pub const fn reason(self) -> Option<Reason> {
        match self {
            Self::Good => None,
            Self::Noted(reason) | Self::Uncertain(reason) | Self::Bad(reason) => Some(reason),
        }
    }

    /// One number for storage, 48 bits wide, the same in every version; [`Quality::from_bits`] reads it back.
    #[must_use]
    pub fn to_bits(self) -> u64 {
        let (class, reason) = match self {
            Self::Good => return 0,
            Self::Uncertain(reason) => (1, reason),
            Self::Bad(reason) => (2, reason),
            Self::Noted(reason) => (3, reason),
        };
        let (code, detail) = reason.to_code();
        class << 40 | u64::from(code) << 32 | u64::from(detail)
    }

    /// The quality that a number stands for; bad and never read for numbers that nothing writes.
    #[must_use]
    pub fn from_bits(bits: u64) -> Self {
        let [_, _, class, code, detail @ ..] = bits.to_be_bytes();
        Self::of(class, Reason::from_code(code, u32::from_be_bytes(detail)))
    }

    /// The quality that a number of 24 bits stood for in journals of before.
    #[must_use]
    pub fn from_short_bits(bits: u32) -> Self {
        let [_, class, code, detail] = bits.to_be_bytes();
        Self::of(class, Reason::from_code(code, detail.into()))
    }

    const fn of(class: u8, reason: Reason) -> Self {
        match class {
            0 => Self::Good,
            1 => Self::Uncertain(reason),
            3 => Self::Noted(reason),
            _ => Self::Bad(reason),
        }
    }
}

impl Reason {
    fn to_code(self) -> (u8, u32) {
        match self {
            Self::NeverRead => (0, 0),
            Self::LinkDown => (1, 0),
            Self::Timeout => (2, 0),
            Self::Modbus(code) => (3, code.into()),
            Self::ProtocolError => (4, 0),
            Self::OutOfRange => (5, 0),
            Self::NotANumber => (6, 0),
            Self::Stale => (7, 0),
            Self::Manual => (8, 0),
            Self::Infinite => (9, 0),
            Self::NotDecimal => (10, 0),
            Self::Garbled => (11, 0),
            Self::NotReadYet => (12, 0),
            Self::OpcUa(status) => (13, status),
            Self::Dnp3 { flags, group } => (14, u32::from(group) << 8 | u32::from(flags)),
            Self::Bacnet { flags, reliability } => (15, u32::from(flags) << 16 | u32::from(reliability)),
            Self::Overflow => (16, 0),
            Self::BacnetError { class, code } => (17, u32::from(class) << 16 | u32::from(code)),
        }
    }

    fn from_code(code: u8, detail: u32) -> Self {
        let [first, flags, high, low] = detail.to_be_bytes();
        match code {
            1 => Self::LinkDown,
            2 => Self::Timeout,
            3 => Self::Modbus(low),
            4 => Self::ProtocolError,
            5 => Self::OutOfRange,
            6 => Self::NotANumber,
            7 => Self::Stale,
            8 => Self::Manual,
            9 => Self::Infinite,
            10 => Self::NotDecimal,
            11 => Self::Garbled,
            12 => Self::NotReadYet,
            13 => Self::OpcUa(detail),
            14 => Self::Dnp3 { flags: low, group: high },
            15 => Self::Bacnet { flags, reliability: u16::from_be_bytes([high, low]) },
            16 => Self::Overflow,
            17 => {
                Self::BacnetError { class: u16::from_be_bytes([first, flags]), code: u16::from_be_bytes([high, low]) }
            }
            _ => Self::NeverRead,
        }
    }
}

/// Numbers stand for what only a protocol has words for: whoever shows reasons to people asks the field side.
impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NeverRead => "never read",
            Self::LinkDown => "link down",
            Self::Timeout => "timeout",
            Self::Modbus(code) => return write!(f, "device exception {code:02}"),
            Self::OpcUa(status) => return write!(f, "status {status:08X}"),
            Self::Dnp3 { flags, .. } => return write!(f, "flags {flags:02X}"),
            Self::Bacnet { flags, reliability } => {
                return write!(f, "status flags {flags:X}, reliability {reliability}");
            }
            Self::BacnetError { class, code } => return write!(f, "error code {code} of class {class}"),
            Self::ProtocolError => "answer breaks the protocol",
            Self::OutOfRange => "out of range",
            Self::NotANumber => "not a number",
            Self::Infinite => "infinite",
            Self::NotDecimal => "digits above nine",
            Self::Garbled => "answers come garbled",
            Self::NotReadYet => "not read since the link came up",
            Self::Stale => "stale",
            Self::Manual => "manual",
            Self::Overflow => "changes were lost at the device",
        })
    }
}

impl fmt::Display for Quality {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.reason() {
            None => f.write_str(self.class()),
            Some(reason) => write!(f, "{}: {reason}", self.class()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_quality_survives_its_bits() {
        let reasons = [
            Reason::NeverRead,
            Reason::LinkDown,
            Reason::Timeout,
            Reason::Modbus(11),
            Reason::OpcUa(0x8034_0000),
            Reason::Dnp3 { flags: 0x85, group: 30 },
            Reason::BacnetError { class: 2, code: 32 },
            Reason::Bacnet { flags: 0xA, reliability: 64_001 },
            Reason::ProtocolError,
            Reason::OutOfRange,
            Reason::NotANumber,
            Reason::Infinite,
            Reason::NotDecimal,
            Reason::Garbled,
            Reason::NotReadYet,
            Reason::Stale,
            Reason::Manual,
        ];
        for reason in reasons {
            for quality in [Quality::Good, Quality::Noted(reason), Quality::Uncertain(reason), Quality::Bad(reason)] {
                assert_eq!(Quality::from_bits(quality.to_bits()), quality);
                assert!(quality.to_bits() < 1 << 48);
            }
        }
        assert_eq!(Quality::from_short_bits(2 << 16 | 3 << 8 | 11), Quality::Bad(Reason::Modbus(11)));
        assert_eq!(Quality::from_short_bits(1 << 16 | 5 << 8), Quality::Uncertain(Reason::OutOfRange));
    }
}
