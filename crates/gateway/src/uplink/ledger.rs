use interlex_core::Sample;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Which samples are where: still on their way into the journal, in one of its blocks, or settled.
///
/// ```text
/// add ──▶ fresh ──due──▶ block under way ──written──▶ block in the database
///           │                  │                            │ when all its samples are settled
///           └──── settle ──────┴────────────────────────────┴──▶ removable
/// ```
///
/// A sample that is settled before its block is due is never written: in quiet times the broker is faster than the
/// journal.
#[derive(Debug)]
pub(super) struct Ledger {
    flush: Duration,
    next: u64,
    fresh: BTreeMap<u64, Sample>,
    /// When the oldest fresh sample came.
    fresh_since: Option<Instant>,
    /// By the number of their first sample.
    blocks: BTreeMap<u64, Block>,
    removable: Vec<u64>,
}

#[derive(Debug)]
struct Block {
    last: u64,
    /// How many of its samples are not settled.
    left: usize,
    /// Its number in the database, once it is there.
    id: Option<u64>,
}

/// Samples that are to be written as one block.
#[derive(Debug)]
pub(super) struct Due {
    /// The number of its first sample, by which [`Ledger::written`] knows it.
    pub(super) first: u64,
    pub(super) samples: Vec<Sample>,
}

/// Far below the packet size of any server.
const PER_BLOCK: usize = 4000;

impl Ledger {
    /// A ledger that lets samples wait for `flush` at the most before they are due.
    pub(super) const fn new(flush: Duration) -> Self {
        Self {
            flush,
            next: 0,
            fresh: BTreeMap::new(),
            fresh_since: None,
            blocks: BTreeMap::new(),
            removable: Vec::new(),
        }
    }

    /// A new sample; gives the number that it has from now on.
    pub(super) fn add(&mut self, sample: &Sample, now: Instant) -> u64 {
        let number = self.next;
        self.next += 1;
        self.fresh.insert(number, sample.clone());
        self.fresh_since.get_or_insert(now);
        number
    }

    /// A block of an earlier run with so many samples; gives the number of the first of them.
    pub(super) fn restore(&mut self, id: u64, count: usize) -> u64 {
        let first = self.next;
        if count == 0 {
            self.removable.push(id);
            return first;
        }
        self.next += count as u64;
        self.blocks.insert(first, Block { last: self.next - 1, left: count, id: Some(id) });
        first
    }

    /// The broker has it, or it was given up; told once.
    pub(super) fn settle(&mut self, number: u64) {
        if self.fresh.remove(&number).is_some() {
            if self.fresh.is_empty() {
                self.fresh_since = None;
            }
            return;
        }
        let Some((first, block)) = self.blocks.range_mut(..=number).next_back() else { return };
        if number > block.last {
            return;
        }
        block.left = block.left.saturating_sub(1);
        if let (0, Some(id), first) = (block.left, block.id, *first) {
            self.removable.push(id);
            self.blocks.remove(&first);
        }
    }

    /// The next block to write, when its time has come, or at once with `all`.
    pub(super) fn due(&mut self, now: Instant, all: bool) -> Option<Due> {
        let since = self.fresh_since?;
        if !all && now.saturating_duration_since(since) < self.flush && self.fresh.len() < PER_BLOCK {
            return None;
        }
        let rest = match self.fresh.keys().nth(PER_BLOCK).copied() {
            Some(first) => self.fresh.split_off(&first),
            None => BTreeMap::new(),
        };
        let taken = std::mem::replace(&mut self.fresh, rest);
        self.fresh_since = (!self.fresh.is_empty()).then_some(now);
        let (first, last) = (*taken.keys().next()?, *taken.keys().next_back()?);
        self.blocks.insert(first, Block { last, left: taken.len(), id: None });
        Some(Due { first, samples: taken.into_values().collect() })
    }

    /// A block is in the database.
    pub(super) fn written(&mut self, first: u64, id: u64) {
        let Some(block) = self.blocks.get_mut(&first) else { return };
        block.id = Some(id);
        if block.left == 0 {
            self.removable.push(id);
            self.blocks.remove(&first);
        }
    }

    /// The blocks of the database that are needed no more.
    pub(super) fn take_removable(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.removable)
    }

    /// Blocks that could not be removed yet.
    pub(super) fn give_back(&mut self, id: u64) {
        self.removable.push(id);
    }

    /// Whether nothing is on its way into the journal or out of it.
    pub(super) fn is_at_rest(&self) -> bool {
        self.fresh.is_empty() && self.removable.is_empty() && self.blocks.values().all(|block| block.id.is_some())
    }

    /// How many samples wait in blocks of the database.
    pub(super) fn durable(&self) -> usize {
        self.blocks.values().filter(|block| block.id.is_some()).map(|block| block.left).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::{PointIndex, Quality, Timestamp};

    fn sample(at: i64) -> Sample {
        let time = Timestamp::from_millis(at);
        Sample { point: PointIndex(0), value: None, quality: Quality::Good, source_time: time, gateway_time: time }
    }

    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn start() -> Instant {
        Instant::now()
    }

    #[test]
    fn what_the_broker_has_in_time_is_never_written_and_the_rest_is() {
        let (flush, now) = (Duration::from_millis(500), start());
        let mut ledger = Ledger::new(flush);
        let numbers: Vec<_> = (0..4).map(|at| ledger.add(&sample(at), now)).collect();
        ledger.settle(numbers[1]);
        assert!(ledger.due(now + flush / 2, false).is_none());
        let due = ledger.due(now + flush, false).unwrap();
        let times: Vec<_> = due.samples.iter().map(|sample| sample.gateway_time.as_millis()).collect();
        assert_eq!((due.first, times), (0, vec![0, 2, 3]));
        assert!(ledger.due(now + 2 * flush, true).is_none(), "nothing is left");
        ledger.settle(numbers[0]);
        assert_eq!(ledger.durable(), 0, "not there yet");
        ledger.written(0, 77);
        assert_eq!(ledger.durable(), 2);
        ledger.settle(99);
        assert_eq!(ledger.durable(), 2, "it is not in there");
        ledger.settle(numbers[3]);
        ledger.settle(numbers[2]);
        assert_eq!((ledger.take_removable(), ledger.durable()), (vec![77], 0));
        assert!(ledger.take_removable().is_empty());
    }

    #[test]
    fn a_block_whose_samples_are_settled_before_it_is_there_goes_when_it_is() {
        let now = start();
        let mut ledger = Ledger::new(Duration::ZERO);
        let number = ledger.add(&sample(1), now);
        assert!(ledger.due(now, false).is_some());
        ledger.settle(number);
        assert!(ledger.take_removable().is_empty());
        ledger.written(number, 5);
        assert_eq!(ledger.take_removable(), [5]);
    }

    #[test]
    fn blocks_of_an_earlier_run_and_large_heaps_keep_their_numbers_apart() {
        let now = start();
        let mut ledger = Ledger::new(Duration::from_secs(1));
        let first = ledger.restore(9, 3);
        assert_eq!(ledger.restore(10, 0), 3);
        assert_eq!(ledger.take_removable(), [10], "an empty block is of no use");
        let numbers: Vec<_> = (0..5000).map(|at| ledger.add(&sample(at), now)).collect();
        assert_eq!(numbers[0], 3);
        let (one, two) = (ledger.due(now, false).unwrap(), ledger.due(now, true).unwrap());
        assert_eq!((one.samples.len(), two.samples.len(), two.first), (4000, 1000, 4003));
        (first..first + 3).for_each(|number| ledger.settle(number));
        assert_eq!(ledger.take_removable(), [9]);
    }
}
