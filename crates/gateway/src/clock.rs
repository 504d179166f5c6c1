use interlex_core::{Clock, Timestamp};
use std::time::{SystemTime, UNIX_EPOCH};

/// The clock of the system.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    #[expect(clippy::disallowed_methods, reason = "the one place where the wall clock is read")]
    fn micros(&self) -> i64 {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
    }
}

/// The time of day, for the edges of the service; rules about time take a [`Timestamp`].
#[must_use]
pub fn wall_clock() -> Timestamp {
    SystemClock.now()
}
