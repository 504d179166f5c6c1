use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// After a timeout an id rests for so long at the least: an answer to what was asked before is not to be taken for the answer to
/// what is asked next.
const REST: Duration = Duration::from_secs(30);

/// By which numbers requests to one peer are known. A number whose request got no answer rests.
#[derive(Debug)]
pub(super) struct InvokeIds {
    last: u8,
    busy: [bool; 256],
    resting: VecDeque<Resting>,
    /// The longest time after which an answer still came.
    latest: Duration,
}

#[derive(Debug)]
struct Resting {
    id: u8,
    asked: Instant,
    until: Instant,
}

impl InvokeIds {
    pub(super) const fn new(last: u8) -> Self {
        Self { last, busy: [false; 256], resting: VecDeque::new(), latest: Duration::ZERO }
    }

    /// The next one that is free.
    pub(super) fn take(&mut self, now: Instant) -> Option<u8> {
        while let Some(rested) = self.resting.pop_front_if(|resting| resting.until <= now) {
            self.free(rested.id);
        }
        let mut id = self.last;
        for _ in 0..self.busy.len() {
            id = id.wrapping_add(1);
            let is_busy = self.busy.get_mut(usize::from(id))?;
            if !std::mem::replace(is_busy, true) {
                self.last = id;
                return Some(id);
            }
        }
        None
    }

    /// Its answer came.
    pub(super) fn free(&mut self, id: u8) {
        if let Some(is_busy) = self.busy.get_mut(usize::from(id)) {
            *is_busy = false;
        }
    }

    /// Its answer did not come, and may do so later.
    pub(super) fn rest(&mut self, id: u8, asked: Instant, now: Instant) {
        self.resting.push_back(Resting { id, asked, until: now + REST.max(self.latest * 2) });
    }

    /// Something came for an id that nothing waits for.
    pub(super) fn is_late(&mut self, id: u8, now: Instant) {
        if let Some(resting) = self.resting.iter().find(|resting| resting.id == id) {
            self.latest = self.latest.max(now.saturating_duration_since(resting.asked));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[expect(clippy::disallowed_methods, reason = "a moment to begin with")]
    fn an_id_without_an_answer_rests_longer_than_answers_were_ever_late() {
        let mut ids = InvokeIds::new(9);
        let start = Instant::now();
        let after = |seconds| start + Duration::from_secs(seconds);
        assert_eq!(ids.take(start), Some(10));
        ids.rest(10, start, after(3));
        ids.is_late(10, after(25));
        for expected in 11..=255_u8 {
            assert_eq!(ids.take(start), Some(expected));
        }
        (0..10).for_each(|expected| assert_eq!(ids.take(start), Some(expected)));
        assert_eq!(ids.take(after(32)), None, "all are out");
        assert_eq!(ids.take(after(33)), Some(10));
        ids.rest(10, after(33), after(36));
        assert_eq!((ids.take(after(85)), ids.take(after(86))), (None, Some(10)), "twice 25 s");
    }
}
