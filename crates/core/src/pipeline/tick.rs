use std::num::NonZeroU64;
use std::ops::Add;
use std::time::Duration;

/// A moment of the monotonic clock, in milliseconds since some start: eight bytes, also where there may be none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Tick(NonZeroU64);

impl Tick {
    /// So long after the start.
    #[must_use]
    pub fn at(since_start: Duration) -> Self {
        Self(NonZeroU64::MIN.saturating_add(millis(since_start)))
    }

    /// The time from an earlier one; zero when it is not earlier.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        Duration::from_millis(self.0.get().saturating_sub(earlier.0.get()))
    }

    /// Its number: those of later ones are greater.
    pub(super) const fn number(self) -> u64 {
        self.0.get()
    }

    /// The tick of a number; the first one for none.
    pub(super) const fn of_number(number: u64) -> Self {
        match NonZeroU64::new(number) {
            Some(number) => Self(number),
            None => Self(NonZeroU64::MIN),
        }
    }

    /// The time since the start.
    pub(super) const fn since_start(self) -> Duration {
        Duration::from_millis(self.0.get() - 1)
    }
}

impl Add<Duration> for Tick {
    type Output = Self;

    fn add(self, span: Duration) -> Self {
        Self(self.0.saturating_add(millis(span)))
    }
}

fn millis(span: Duration) -> u64 {
    u64::try_from(span.as_millis()).unwrap_or(u64::MAX)
}
