use std::fmt;

/// How far a value can be trusted, and if not fully, why.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Quality {
    /// Read from the device, in range, just now.
    Good,
    /// There is a value, but something speaks against it.
    Uncertain(Reason),
    /// There is no value to act on; what is shown is the last one known, if any.
    Bad(Reason),
}

/// Why a quality is not good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Reason {
    /// Nothing was read since the gateway started.
    NeverRead,
    /// The link to the device is not connected.
    LinkDown,
    /// The device did not answer in time.
    Timeout,
    /// The device refused the read, with this exception code of its protocol.
    DeviceException(u8),
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
}

impl Quality {
    /// Whether the value may be acted on without a second look.
    #[must_use]
    pub const fn is_good(self) -> bool {
        matches!(self, Self::Good)
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
            Self::Good => "good",
            Self::Uncertain(_) => "uncertain",
            Self::Bad(_) => "bad",
        }
    }

    /// The reason, when it is not good.
    #[must_use]
    pub const fn reason(self) -> Option<Reason> {
        match self {
            Self::Good => None,
            Self::Uncertain(reason) | Self::Bad(reason) => Some(reason),
        }
    }

    /// One number for storage, 24 bits wide, the same in every version; [`Quality::from_bits`] reads it back.
    #[must_use]
    pub fn to_bits(self) -> u32 {
        let (class, reason) = match self {
            Self::Good => return 0,
            Self::Uncertain(reason) => (1, reason),
            Self::Bad(reason) => (2, reason),
        };
        let (code, detail) = match reason {
            Reason::NeverRead => (0, 0),
            Reason::LinkDown => (1, 0),
            Reason::Timeout => (2, 0),
            Reason::DeviceException(code) => (3, code),
            Reason::ProtocolError => (4, 0),
            Reason::OutOfRange => (5, 0),
            Reason::NotANumber => (6, 0),
            Reason::Stale => (7, 0),
            Reason::Manual => (8, 0),
            Reason::Infinite => (9, 0),
            Reason::NotDecimal => (10, 0),
            Reason::Garbled => (11, 0),
            Reason::NotReadYet => (12, 0),
        };
        class << 16 | code << 8 | u32::from(detail)
    }

    /// The quality that a number stands for; bad and never read for numbers that nothing writes.
    #[must_use]
    pub fn from_bits(bits: u32) -> Self {
        let [_, class, code, detail] = bits.to_be_bytes();
        let reason = match code {
            1 => Reason::LinkDown,
            2 => Reason::Timeout,
            3 => Reason::DeviceException(detail),
            4 => Reason::ProtocolError,
            5 => Reason::OutOfRange,
            6 => Reason::NotANumber,
            7 => Reason::Stale,
            8 => Reason::Manual,
            9 => Reason::Infinite,
            10 => Reason::NotDecimal,
            11 => Reason::Garbled,
            12 => Reason::NotReadYet,
            _ => Reason::NeverRead,
        };
        match class {
            0 => Self::Good,
            1 => Self::Uncertain(reason),
            _ => Self::Bad(reason),
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NeverRead => "never read",
            Self::LinkDown => "link down",
            Self::Timeout => "timeout",
            Self::DeviceException(code) => return write!(f, "device exception {code:02}"),
            Self::ProtocolError => "answer breaks the protocol",
            Self::OutOfRange => "out of range",
            Self::NotANumber => "not a number",
            Self::Infinite => "infinite",
            Self::NotDecimal => "digits above nine",
            Self::Garbled => "answers come garbled",
            Self::NotReadYet => "not read since the link came up",
            Self::Stale => "stale",
            Self::Manual => "manual",
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
            Reason::DeviceException(11),
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
            for quality in [Quality::Good, Quality::Uncertain(reason), Quality::Bad(reason)] {
                assert_eq!(Quality::from_bits(quality.to_bits()), quality);
            }
        }
    }
}
