use interlex_core::Timestamp;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::time::Duration;

/// Limits failed attempts to sign in, per address and per name.
#[derive(Debug, Default)]
pub(crate) struct Attempts {
    failures: Mutex<HashMap<String, Failures>>,
}

#[derive(Debug, Clone, Copy)]
struct Failures {
    count: u32,
    last: Timestamp,
}

/// A person mistypes a few times; a program that guesses tries thousands of times.
const FREE: u32 = 5;
/// After this long without a failure, an address or name starts fresh.
const FORGET: Duration = Duration::from_secs(300);
/// So many that a flood of made-up names does not fill the memory; the oldest make room.
const MOST: usize = 10_000;

impl Attempts {
    /// How long `who` has to wait before the next attempt counts.
    pub(crate) fn wait(&self, who: &str, now: Timestamp) -> Option<Duration> {
        let failures = self.failures.lock();
        let failed = failures.get(who).filter(|failed| failed.count >= FREE)?;
        FORGET.checked_sub(now.since(failed.last)).filter(|left| !left.is_zero())
    }

    /// An attempt of `who` failed.
    pub(crate) fn failed(&self, who: &str, now: Timestamp) {
        let mut failures = self.failures.lock();
        if failures.len() >= MOST {
            failures.retain(|_, failed| now.since(failed.last) < FORGET);
            let oldest = failures.iter().min_by_key(|(_, failed)| failed.last).map(|(who, _)| who.clone());
            if let Some(oldest) = oldest.filter(|_| failures.len() >= MOST) {
                failures.remove(&oldest);
            }
        }
        let failed = failures.entry(who.to_owned()).or_insert(Failures { count: 0, last: now });
        if now.since(failed.last) >= FORGET {
            failed.count = 0;
        }
        *failed = Failures { count: failed.count + 1, last: now };
    }

    /// An attempt of `who` succeeded.
    pub(crate) fn succeeded(&self, who: &str) {
        self.failures.lock().remove(who);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sixth_wrong_attempt_in_a_row_has_to_wait_and_time_heals() {
        let attempts = Attempts::default();
        let at = |second: i64| Timestamp::from_millis(second * 1000);
        for second in 0..5 {
            assert_eq!(attempts.wait("10.0.0.7", at(second)), None);
            attempts.failed("10.0.0.7", at(second));
        }
        assert_eq!(attempts.wait("10.0.0.7", at(10)), Some(Duration::from_secs(294)));
        assert_eq!(attempts.wait("10.0.0.8", at(10)), None, "others are not concerned");
        assert_eq!(attempts.wait("10.0.0.7", at(400)), None);
        attempts.failed("10.0.0.7", at(400));
        assert_eq!(attempts.wait("10.0.0.7", at(401)), None, "it starts fresh");
        attempts.succeeded("10.0.0.7");
    }
}
