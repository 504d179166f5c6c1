use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A moment in UTC: milliseconds since 1970-01-01T00:00:00Z.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Timestamp(i64);

impl Timestamp {
    /// Before every other.
    pub const MIN: Self = Self(i64::MIN);
    /// After every other.
    pub const MAX: Self = Self(i64::MAX);

    /// A moment from its milliseconds since 1970-01-01T00:00:00Z.
    #[must_use]
    pub const fn from_millis(millis: i64) -> Self {
        Self(millis)
    }

    /// Milliseconds since 1970-01-01T00:00:00Z.
    #[must_use]
    pub const fn as_millis(self) -> i64 {
        self.0
    }

    /// Milliseconds since 1970 as the unsigned number that wire formats use; moments before 1970 become 0.
    #[must_use]
    pub fn as_unsigned_millis(self) -> u64 {
        u64::try_from(self.0).unwrap_or(0)
    }

    /// The time from `earlier` to `self`; zero when `earlier` is not earlier.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_millis(u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0))
    }

    /// The moment `span` later.
    #[must_use]
    pub fn plus(self, span: Duration) -> Self {
        Self(self.0.saturating_add(i64::try_from(span.as_millis()).unwrap_or(i64::MAX)))
    }
}
