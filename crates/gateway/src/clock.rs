use interlex_core::Timestamp;
use std::time::{SystemTime, UNIX_EPOCH};

/// The wall clock, for drivers and for the edges of the service; rules about time take a [`Timestamp`].
#[must_use]
pub fn wall_clock() -> Timestamp {
    Timestamp::from_millis(wall_clock_micros().div_euclid(1000))
}

/// The same in microseconds since 1970 UTC, for recordings.
#[expect(clippy::disallowed_methods, reason = "the one place where the wall clock is read")]
pub(crate) fn wall_clock_micros() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}
