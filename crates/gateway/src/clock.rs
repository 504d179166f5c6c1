use interlex_core::Timestamp;
use std::time::{SystemTime, UNIX_EPOCH};

/// The wall clock, for drivers and for the edges of the service; rules about time take a [`Timestamp`].
#[must_use]
#[expect(clippy::disallowed_methods, reason = "the one place where the wall clock is read")]
pub fn wall_clock() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Timestamp::from_millis(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}
