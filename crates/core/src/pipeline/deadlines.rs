use super::tick::Tick;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Which point is to be looked at when, by its place.
///
/// A point stands in the heap once as a rule, at a moment no later than the one that counts: when that moved on meanwhile, the
/// point is put back. So a value that is read again and again costs nothing here until its old deadline comes.
#[derive(Debug, Default)]
pub(super) struct Deadlines {
    heap: BinaryHeap<Reverse<Due>>,
    /// How many points there are.
    points: usize,
}

/// A moment, and a point below: in eight bytes, which are ordered as both are. There is room for the milliseconds of 34 years, and for
/// 16 million points of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Due(u64);

const PLACE_BITS: u32 = 24;

impl Due {
    /// `None` for a point that is one too many.
    fn new(at: Tick, place: u32) -> Option<Self> {
        let latest = u64::MAX >> PLACE_BITS;
        (place >> PLACE_BITS == 0).then_some(Self(at.number().min(latest) << PLACE_BITS | u64::from(place)))
    }

    const fn at(self) -> Tick {
        Tick::of_number(self.0 >> PLACE_BITS)
    }

    fn place(self) -> Option<u32> {
        u32::try_from(self.0 & ((1 << PLACE_BITS) - 1)).ok()
    }
}

impl Deadlines {
    /// Those of so many points.
    pub(super) fn new(points: usize) -> Self {
        Self { heap: BinaryHeap::new(), points }
    }

    /// A point is to be looked at; `queued` is when it stands in the heap.
    pub(super) fn want(&mut self, place: u32, at: Option<Tick>, queued: &mut Option<Tick>) {
        let at = at.filter(|at| queued.is_none_or(|queued| *at < queued));
        if let Some(due) = at.and_then(|at| Due::new(at, place)) {
            *queued = Some(due.at());
            let (len, lacking) = (self.heap.len(), self.points.saturating_sub(self.heap.len()));
            if len == self.heap.capacity() {
                // As a rule there are no more than points.
                self.heap.reserve_exact(if lacking > 0 { lacking.min(len) } else { len / 4 }.max(8));
            }
            self.heap.push(Reverse(due));
        }
    }

    /// When the next one is to be looked at.
    pub(super) fn next(&self) -> Option<Tick> {
        self.heap.peek().map(|Reverse(due)| due.at())
    }

    /// The next one whose moment has come.
    pub(super) fn take(&mut self, now: Tick) -> Option<(Tick, u32)> {
        if self.next()? > now {
            return None;
        }
        let Reverse(due) = self.heap.pop()?;
        Some((due.at(), due.place()?))
    }
}
