use std::time::Duration;
use tokio::time::{Instant, sleep_until};

/// Batches are made so large that one takes about this long: what is new waits no longer behind one.
const BATCH_TIME: Duration = Duration::from_millis(50);
const SMALLEST: usize = 500;
const LARGEST: usize = 50_000;
/// When no proof comes, the next batch goes all the same.
const LONGEST: Duration = Duration::from_secs(5);

/// How fast what has waited follows: a batch, its proof, and a pause in proportion to how long that took.
#[derive(Debug)]
pub(crate) struct Pace {
    /// The share of the time, in percent.
    share: u8,
    batch: usize,
    /// When the batch under way was sent, and whether it was a whole one.
    sent: Option<(Instant, bool)>,
    next: Instant,
}

impl Pace {
    pub(crate) const fn new(share: u8, now: Instant) -> Self {
        Self { share, batch: SMALLEST, sent: None, next: now }
    }

    /// A new connection: nothing is under way.
    pub(crate) const fn restart(&mut self, now: Instant) {
        (self.sent, self.next) = (None, now);
    }

    /// Whether the next batch may go.
    pub(crate) fn is_free(&self, now: Instant) -> bool {
        let is_waiting = self.sent.is_some_and(|(at, _)| now - at < LONGEST);
        !is_waiting && now >= self.next
    }

    /// How many samples it may have.
    pub(crate) const fn batch(&self) -> usize {
        self.batch
    }

    pub(crate) const fn sent(&mut self, is_whole: bool, now: Instant) {
        self.sent = Some((now, is_whole));
    }

    /// The broker has read the batch.
    pub(crate) fn proven(&mut self, now: Instant) {
        let Some((at, is_whole)) = self.sent.take() else { return };
        let took = now - at;
        self.next = now + pause(took, self.share);
        if took > 2 * BATCH_TIME {
            self.batch = (self.batch / 2).max(SMALLEST);
        } else if is_whole && took < BATCH_TIME {
            self.batch = (self.batch * 2).min(LARGEST);
        }
    }

    /// Waits for the end of the pause.
    pub(crate) async fn is_due(&self) {
        if self.sent.is_some() || Instant::now() >= self.next {
            return std::future::pending().await;
        }
        sleep_until(self.next).await;
    }
}

/// How long to leave the connection to what is new after a batch that took so long.
fn pause(took: Duration, share: u8) -> Duration {
    let share = u32::from(share.clamp(1, 100));
    took * (100 - share) / share
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn batches_grow_and_shrink_with_the_line_and_pauses_follow_the_share() {
        assert_eq!(pause(Duration::from_millis(50), 50), Duration::from_millis(50));
        assert_eq!(pause(Duration::from_millis(50), 20), Duration::from_millis(200));
        assert_eq!(pause(Duration::from_millis(50), 100), Duration::ZERO);
        let mut now = Instant::now();
        let mut pace = Pace::new(50, now);
        for (took, is_whole, batch) in [(10, true, 1000), (10, false, 1000), (70, true, 1000), (300, true, 500)] {
            assert!(pace.is_free(now));
            pace.sent(is_whole, now);
            assert!(!pace.is_free(now));
            now += Duration::from_millis(took);
            pace.proven(now);
            assert_eq!((pace.batch(), pace.is_free(now)), (batch, false), "after {took} ms");
            now += Duration::from_millis(took);
        }
        pace.sent(true, now);
        assert!(pace.is_free(now + LONGEST), "no proof came");
    }
}
