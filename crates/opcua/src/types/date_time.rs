use crate::codec::{Binary, DecodeError, Reader};

/// A moment, in steps of 100 nanoseconds since 1601-01-01 00:00 UTC.
///
/// Zero, and whatever lies before it, means that there is none; so does the last one that there is.
///
/// Source: OPC 10000-6, section 5.2.2.5.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct DateTime(pub i64);

/// Steps of 100 nanoseconds from 1601 to 1970.
const TO_1970: i64 = 116_444_736_000_000_000;
const STEPS_PER_MILLI: i64 = 10_000;
/// 9999-12-31 23:59:59: from here on it is the latest moment that there is.
const LATEST: i64 = 2_650_467_743_990_000_000;

impl DateTime {
    /// No moment.
    pub const NONE: Self = Self(0);

    /// So many milliseconds after 1970-01-01 00:00 UTC.
    #[must_use]
    pub const fn from_unix_millis(millis: i64) -> Self {
        Self(millis.saturating_mul(STEPS_PER_MILLI).saturating_add(TO_1970))
    }

    /// Milliseconds since 1970-01-01 00:00 UTC, the part of one cut off; `None` where it means no moment.
    #[must_use]
    pub const fn unix_millis(self) -> Option<i64> {
        if self.0 <= 0 || self.0 >= LATEST { None } else { Some((self.0 - TO_1970).div_euclid(STEPS_PER_MILLI)) }
    }
}

impl Binary for DateTime {
    fn encode(&self, out: &mut Vec<u8>) {
        self.0.encode(out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        i64::decode(from).map(Self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ends_mean_no_moment_and_times_before_1970_are_cut_downwards() {
        assert_eq!(DateTime::from_unix_millis(1_709_210_096_789).0, 133_536_836_967_890_000);
        assert_eq!(DateTime(116_444_736_000_000_000).unix_millis(), Some(0));
        assert_eq!(DateTime(116_444_735_999_999_999).unix_millis(), Some(-1));
        for none in [0, -5, i64::MAX, i64::MIN, LATEST] {
            assert_eq!(DateTime(none).unix_millis(), None, "{none}");
        }
        assert_eq!(DateTime(LATEST - 1).unix_millis(), Some(253_402_300_798_999));
    }
}
