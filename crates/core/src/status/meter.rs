use crate::Timestamp;

/// Counts events and tells how many a second there were lately.
#[derive(Debug, Clone, Default)]
pub struct RateMeter {
    buckets: [(i64, u32); SECONDS],
    total: u64,
}

/// Long enough to be steady at one event in two seconds, short enough to follow a fault.
const SECONDS: usize = 10;

impl RateMeter {
    /// Counts `events` at a moment.
    pub fn add(&mut self, now: Timestamp, events: u32) {
        self.total += u64::from(events);
        let second = now.as_millis().div_euclid(1000);
        let place = usize::try_from(second.rem_euclid(10)).unwrap_or(0);
        if let Some(bucket) = self.buckets.get_mut(place) {
            *bucket = if bucket.0 == second { (second, bucket.1.saturating_add(events)) } else { (second, events) };
        }
    }

    /// Events a second over the last whole seconds; the running one does not count.
    #[must_use]
    pub fn per_second(&self, now: Timestamp) -> f64 {
        let second = now.as_millis().div_euclid(1000);
        let recent = self.buckets.iter().filter(|(at, _)| (second - 9..second).contains(at));
        f64::from(recent.map(|(_, events)| *events).sum::<u32>()) / 9.0
    }

    /// All that was ever counted.
    #[must_use]
    pub const fn total(&self) -> u64 {
        self.total
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rate_follows_what_happens_and_forgets() {
        let mut meter = RateMeter::default();
        let at = |millis: i64| Timestamp::from_millis(1_700_000_000_000 + millis);
        for tick in 0..200 {
            meter.add(at(tick * 100), 2);
        }
        assert!((meter.per_second(at(20_000)) - 20.0).abs() < 1e-9);
        assert!(meter.per_second(at(25_000)) < 15.0);
        assert!(meter.per_second(at(60_000)).abs() < 1e-9);
        assert_eq!(meter.total(), 400);
    }
}
