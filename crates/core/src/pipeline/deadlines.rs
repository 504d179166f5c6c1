use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::time::Instant;

/// Which point is to be looked at when, by its place.
///
/// A point stands in the heap once as a rule, at a moment no later than the one that counts: when that moved on meanwhile, the
/// point is put back. So a value that is read again and again costs nothing here until its old deadline comes.
#[derive(Debug, Default)]
pub(super) struct Deadlines {
    heap: BinaryHeap<Reverse<(Instant, u32)>>,
}

impl Deadlines {
    /// A point is to be looked at; `queued` is when it stands in the heap.
    pub(super) fn want(&mut self, place: u32, at: Option<Instant>, queued: &mut Option<Instant>) {
        if let Some(at) = at.filter(|at| queued.is_none_or(|queued| *at < queued)) {
            *queued = Some(at);
            self.heap.push(Reverse((at, place)));
        }
    }

    /// When the next one is to be looked at.
    pub(super) fn next(&self) -> Option<Instant> {
        self.heap.peek().map(|Reverse((at, _))| *at)
    }

    /// The next one whose moment has come.
    pub(super) fn take(&mut self, now: Instant) -> Option<(Instant, u32)> {
        let Reverse((at, _)) = self.heap.peek()?;
        if *at > now {
            return None;
        }
        self.heap.pop().map(|Reverse(due)| due)
    }
}
