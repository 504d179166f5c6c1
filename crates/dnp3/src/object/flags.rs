use super::PointKind;

/// How good a point is, without the bits of its state.
///
/// Source: IEEE 1815-2012, section 11.6 and annex A.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Flags(pub u8);

impl Flags {
    /// Everything is as it should be.
    pub const ONLINE: Self = Self(1);
    /// It was not updated since a restart.
    pub const RESTART: Self = Self(1 << 1);
    /// Whoever has the point cannot be reached: the value is the last one.
    pub const COMM_LOST: Self = Self(1 << 2);
    /// It was set by hand at another device.
    pub const REMOTE_FORCED: Self = Self(1 << 3);
    /// It was set by hand at this device.
    pub const LOCAL_FORCED: Self = Self(1 << 4);
    /// Of an input with two states: it changes too often to be told.
    pub const CHATTER_FILTER: Self = Self(1 << 5);
    /// Of a counter: it began anew from zero. Obsolete.
    pub const ROLLOVER: Self = Self(1 << 5);
    /// Of an analog value: it is beyond what can be told.
    pub const OVER_RANGE: Self = Self(1 << 5);
    /// Of a counter: it cannot be compared with the value before.
    pub const DISCONTINUITY: Self = Self(1 << 6);
    /// Of an analog value: what it is measured against is wrong.
    pub const REFERENCE_ERROR: Self = Self(1 << 6);

    /// Whether some of these are set.
    #[must_use]
    pub const fn has(self, any: Self) -> bool {
        self.0 & any.0 != 0
    }

    /// Both.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// What is set, as the standard calls it for points of a kind.
    pub fn words(self, kind: PointKind) -> impl Iterator<Item = &'static str> {
        let (fifth, sixth) = match kind {
            PointKind::Binary | PointKind::DoubleBit => ("chatter filter", ""),
            PointKind::BinaryOutput | PointKind::Octets => ("", ""),
            PointKind::Counter | PointKind::FrozenCounter => ("rollover", "discontinuity"),
            PointKind::Analog | PointKind::FrozenAnalog | PointKind::AnalogOutput => ("over range", "reference error"),
        };
        let words = ["online", "restart", "comm lost", "remote forced", "local forced", fifth, sixth];
        let set = move |bit: u8| self.0 >> bit & 1 == 1;
        (0..).zip(words).filter(move |(bit, word)| set(*bit) && !word.is_empty()).map(|(_, word)| word)
    }
}
