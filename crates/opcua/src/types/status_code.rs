use super::status_names;
use crate::codec::{Binary, DecodeError, Reader};
use std::fmt;

/// What became of something, or how good a value is: severity, what it is, and bits that say more.
///
/// Source: OPC 10000-4, section 7.39.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct StatusCode(pub u32);

/// The bits that tell what it is, without those that say more of a value.
const CODE: u32 = 0xFFFF_0000;

impl StatusCode {
    /// Whether it says that all is well.
    #[must_use]
    pub const fn is_good(self) -> bool {
        self.0 >> 30 == 0
    }

    /// Whether it says that a value may be used with care.
    #[must_use]
    pub const fn is_uncertain(self) -> bool {
        self.0 >> 30 == 1
    }

    /// Whether it says that something failed; the severity that is reserved counts as this.
    #[must_use]
    pub const fn is_bad(self) -> bool {
        self.0 >> 31 == 1
    }

    /// The code alone.
    #[must_use]
    pub const fn code(self) -> Self {
        Self(self.0 & CODE)
    }

    /// What the standard calls it, whatever its other bits say.
    #[must_use]
    pub fn name(self) -> Option<&'static str> {
        status_names::name(self.0 & CODE)
    }

    /// Whether values were lost from the queue of a monitored item before this one.
    ///
    /// Source: OPC 10000-4, section 7.39.1: info type data value (bits 10 and 11 are 01), and the bit for an overflow.
    #[must_use]
    pub const fn has_overflowed(self) -> bool {
        self.0 & 0x0C80 == 0x0480
    }

    /// Whether the structure of the value may mean something else from now on.
    #[must_use]
    pub const fn has_structure_changed(self) -> bool {
        self.0 & 0x4000 != 0
    }

    /// Whether the meaning of the value, such as its unit, may be another from now on.
    #[must_use]
    pub const fn has_semantics_changed(self) -> bool {
        self.0 & 0x2000 != 0
    }
}

impl Binary for StatusCode {
    fn encode(&self, out: &mut Vec<u8>) {
        self.0.encode(out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        u32::decode(from).map(Self)
    }
}

/// Its name, and its number where there is none or where it has other bits.
impl fmt::Display for StatusCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) if *self == self.code() => f.write_str(name),
            Some(name) => write!(f, "{name} (0x{:08X})", self.0),
            None => write!(f, "0x{:08X}", self.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_named_and_tell_more_of_a_value() {
        let overflow = StatusCode(0x4090_0480);
        assert_eq!(overflow.to_string(), "UncertainLastUsableValue (0x40900480)");
        assert!(overflow.is_uncertain() && overflow.has_overflowed() && !overflow.has_structure_changed());
        assert_eq!(StatusCode::BAD_NODE_ID_UNKNOWN.to_string(), "BadNodeIdUnknown");
        assert_eq!(
            (StatusCode(0xC000_0000).is_bad(), StatusCode(0xBFFF_0000).to_string()),
            (true, "0xBFFF0000".to_owned())
        );
        assert!(StatusCode::GOOD.is_good() && StatusCode(0x0000_0480).is_good());
    }
}
