use interlex_core::{PastMoment, Timestamp};
use std::collections::VecDeque;
use std::time::Duration;

/// How far apart the moments are that are remembered.
const STEP: Duration = Duration::from_secs(10);
/// Six hours of them.
const MOMENTS: usize = 6 * 360;

/// What went in and out in the last hours, for a picture.
#[derive(Debug, Default)]
pub(super) struct Past {
    moments: VecDeque<PastMoment>,
    /// Samples that came and that were delivered, and when that was, at the last two moments.
    marks: VecDeque<(Timestamp, u64, u64, u64)>,
}

impl Past {
    /// Takes down how many came, were delivered, wait and are lost, when it is time to.
    pub(super) fn record(
        &mut self,
        now: Timestamp,
        (came, delivered, waiting, lost): (u64, u64, u64, u64),
        is_online: bool,
    ) {
        let last = self.marks.back().copied();
        if last.is_some_and(|(at, ..)| now.since(at) < STEP && now >= at) {
            return;
        }
        if self.marks.len() == 2 {
            self.marks.pop_front();
        }
        self.marks.push_back((now, came, delivered, lost));
        let Some((_, came_before, delivered_before, lost_before)) = last else { return };
        if self.moments.len() == MOMENTS {
            self.moments.pop_front();
        }
        self.moments.push_back(PastMoment {
            at: now.as_millis(),
            came: came.saturating_sub(came_before),
            delivered: delivered.saturating_sub(delivered_before),
            lost: lost.saturating_sub(lost_before),
            waiting,
            online: is_online,
        });
    }

    /// Samples a second that came and were delivered, over the last ten to twenty seconds.
    pub(super) fn rates(&self, (came, delivered): (u64, u64), now: Timestamp) -> (f64, f64) {
        let Some((at, came_before, delivered_before, _)) = self.marks.front() else { return (0.0, 0.0) };
        let seconds = now.since(*at).as_secs_f64().max(0.1);
        #[expect(clippy::cast_precision_loss, reason = "a rate")]
        let rate = |after: u64, before: u64| after.saturating_sub(before) as f64 / seconds;
        (rate(came, *came_before), rate(delivered, *delivered_before))
    }

    pub(super) fn moments(&self) -> Vec<PastMoment> {
        self.moments.iter().cloned().collect()
    }
}
