use super::tick::Tick;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Which point is to be looked at when, by its place.
///
/// A point stands in the heap once as a rule, at a moment no later than the one that counts: when that moved on meanwhile, the
/// point is put back. So a value that is read again and again costs nothing here until its old deadline comes.
#[derive(Debug, Default)]
pub(super) struct Deadlines {
    heap: BinaryHeap<Reverse<(Tick, u32)>>,
}

impl Deadlines {
    /// A point is to be looked at; `queued` is when it stands in the heap.
    pub(super) fn want(&mut self, place: u32, at: Option<Tick>, queued: &mut Option<Tick>) {
        if let Some(at) = at.filter(|at| queued.is_none_or(|queued| *at < queued)) {
            *queued = Some(at);
            self.heap.push(Reverse((at, place)));
        }
    }

    /// When the next one is to be looked at.
    pub(super) fn next(&self) -> Option<Tick> {
        self.heap.peek().map(|Reverse((at, _))| *at)
    }

    /// The next one whose moment has come.
    pub(super) fn take(&mut self, now: Tick) -> Option<(Tick, u32)> {
        let Reverse((at, _)) = self.heap.peek()?;
        if *at > now {
            return None;
        }
        self.heap.pop().map(|Reverse(due)| due)
    }
}
