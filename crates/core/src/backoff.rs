use std::time::Duration;

/// Growing waits between attempts: doubled each time up to a limit, and spread by a quarter to both sides, so that
/// many gateways do not come back in step.
#[derive(Debug, Clone)]
pub struct Backoff {
    first: Duration,
    limit: Duration,
    next: Duration,
    rng: fastrand::Rng,
}

impl Backoff {
    /// Waits that begin with `first` and end with `limit`.
    #[must_use]
    pub fn new(first: Duration, limit: Duration, rng: fastrand::Rng) -> Self {
        Self { first, limit, next: first.min(limit), rng }
    }

    /// The next wait.
    pub fn wait(&mut self) -> Duration {
        let wait = self.next.mul_f64(0.75 + 0.5 * self.rng.f64());
        self.next = (self.next * 2).min(self.limit);
        wait.min(self.limit)
    }

    /// Something worked: start small again.
    pub fn reset(&mut self) {
        self.next = self.first.min(self.limit);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_to_the_limit_with_jitter_and_start_over() {
        let (first, limit) = (Duration::from_millis(500), Duration::from_secs(30));
        let mut backoff = Backoff::new(first, limit, fastrand::Rng::with_seed(3));
        let waits: Vec<_> = (0..12).map(|_| backoff.wait()).collect();
        for (n, wait) in waits.iter().enumerate() {
            let base = (first * (1 << n)).min(limit);
            assert!(*wait >= base.mul_f64(0.75) && *wait <= base.mul_f64(1.25).min(limit), "{n}: {wait:?}");
        }
        backoff.reset();
        assert!(backoff.wait() <= first.mul_f64(1.25));
    }
}
