use crate::Timestamp;
use std::fmt::Debug;
use std::sync::atomic::{AtomicI64, Ordering};

/// The wall clock. It may leap and go back: spans of time are not measured by it.
pub trait Clock: Debug + Send + Sync {
    /// Microseconds since 1970-01-01T00:00:00Z.
    fn micros(&self) -> i64;

    /// Whether it goes right, as far as anybody can tell. Nobody else's clock is set by one that does not.
    fn is_synchronized(&self) -> bool {
        true
    }

    /// The moment now.
    fn now(&self) -> Timestamp {
        Timestamp::from_millis(self.micros().div_euclid(1000))
    }
}

/// A wall clock that stands until somebody sets it: for trying rules about time.
#[derive(Debug)]
pub struct ManualClock(AtomicI64);

impl ManualClock {
    /// A clock that stands at a moment.
    #[must_use]
    pub const fn new(at: Timestamp) -> Self {
        Self(AtomicI64::new(at.as_millis()))
    }

    /// Sets it.
    pub fn set(&self, at: Timestamp) {
        self.0.store(at.as_millis(), Ordering::Relaxed);
    }
}

impl Clock for ManualClock {
    fn micros(&self) -> i64 {
        self.0.load(Ordering::Relaxed).saturating_mul(1000)
    }
}
