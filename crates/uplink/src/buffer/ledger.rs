use super::item::Item;
use super::ranges::Ranges;
use interlex_core::Timestamp;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Which samples are where: still on their way into the journal, in one of its blocks, or settled.
///
/// ```text
/// add ──▶ fresh ──due──▶ block under way ──written──▶ block in the database ──cool──▶ in the database only
///           │                  │                            │  ◀────────────warm───────────┘
///           │                  │                            │ when all its samples are settled
///           └──── settle ──────┴────────────────────────────┴──▶ removable
/// ```
///
/// A sample that is settled before its block is due is never written: in quiet times the broker is faster than the
/// journal. Blocks do not interleave: all numbers of one are below those of the next.
#[derive(Debug)]
pub(super) struct Ledger<T> {
    flush: Duration,
    next: u64,
    fresh: BTreeMap<u64, T>,
    /// The bytes of what is fresh, in memory.
    fresh_bytes: usize,
    /// Whether something fresh is due at once.
    is_due: bool,
    /// When the oldest fresh sample came.
    fresh_since: Option<Instant>,
    /// By the number of their first sample.
    blocks: BTreeMap<u64, Block>,
    /// Of blocks that are in the database only, the samples that are not settled; by their first number.
    cold: BTreeMap<u64, Ranges>,
    /// How many samples are in the database only.
    cold_count: u64,
    /// How many samples wait in blocks of the database.
    durable: u64,
    /// The bytes of all blocks in the database.
    bytes: u64,
    removable: Vec<u64>,
}

#[derive(Debug)]
struct Block {
    numbers: Ranges,
    /// How many of its samples are not settled.
    left: u64,
    /// Its number in the database, once it is there.
    id: Option<u64>,
    bytes: u64,
    oldest: Timestamp,
    newest: Timestamp,
    /// How old its newest sample was at a moment that the monotonic clock knows: a wall clock that leaps ages nothing.
    aged: (Instant, Duration),
    /// Whether it was fetched from the database, because its turn has come.
    is_fetched: bool,
}

impl Block {
    /// How long its newest sample has waited.
    fn age(&self, now: Instant) -> Duration {
        let (at, age) = self.aged;
        age + now.saturating_duration_since(at)
    }
}

/// Items that are to be written as one block.
#[derive(Debug)]
pub(super) struct Due<T> {
    /// The number of its first sample, by which [`Ledger::written`] knows it.
    pub(super) first: u64,
    pub(super) items: Vec<T>,
}

/// A block of the database with what is known of it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Stored {
    pub(super) id: u64,
    pub(super) bytes: u64,
    pub(super) oldest: Timestamp,
    pub(super) newest: Timestamp,
    /// How old the newest sample is now.
    pub(super) age: Duration,
}

/// What is given up.
#[derive(Debug)]
pub(super) struct GivenUp {
    /// All numbers of the block.
    pub(super) numbers: Ranges,
    /// How many of them were in the database only.
    pub(super) cold: u64,
    pub(super) oldest: Timestamp,
    pub(super) newest: Timestamp,
}

/// A block has so many items and so many bytes in memory at the most: far below the packet size of any server.
const PER_BLOCK: usize = 4000;
const BYTES_PER_BLOCK: usize = 1 << 20;

impl<T: Item> Ledger<T> {
    /// A ledger that lets samples wait for `flush` at the most before they are due.
    pub(super) const fn new(flush: Duration) -> Self {
        Self {
            flush,
            next: 0,
            fresh: BTreeMap::new(),
            fresh_bytes: 0,
            is_due: false,
            fresh_since: None,
            blocks: BTreeMap::new(),
            cold: BTreeMap::new(),
            cold_count: 0,
            durable: 0,
            bytes: 0,
            removable: Vec::new(),
        }
    }

    /// A new item; gives the number that it has from now on.
    pub(super) fn add(&mut self, item: &T, now: Instant) -> u64 {
        let number = self.next;
        self.next += 1;
        self.fresh_bytes += item.bytes();
        self.fresh.insert(number, item.clone());
        self.fresh_since.get_or_insert(now);
        number
    }

    /// A new item that is due in the journal at once.
    pub(super) fn add_due(&mut self, item: &T) -> u64 {
        let number = self.next;
        self.next += 1;
        self.fresh_bytes += item.bytes();
        self.fresh.insert(number, item.clone());
        self.is_due = true;
        number
    }

    /// Whatever is fresh is due in the journal at once.
    pub(super) fn hurry(&mut self) {
        self.is_due = !self.fresh.is_empty();
    }

    /// The number that the next item gets.
    pub(super) const fn next(&self) -> u64 {
        self.next
    }

    /// The first item that a sudden end would lose; all before it are in the database, or settled.
    pub(super) fn first_unsafe(&self) -> u64 {
        let fresh = self.fresh.keys().next().copied();
        // Blocks are written in their order: the last ones are those that are under way.
        let under_way = self.blocks.iter().rev().take_while(|(_, block)| block.id.is_none()).last();
        fresh.into_iter().chain(under_way.map(|(first, _)| *first)).min().unwrap_or(u64::MAX)
    }

    /// A block of an earlier run with so many samples, which are in the database only; gives their numbers.
    pub(super) fn restore(&mut self, stored: Stored, count: u64, now: Instant) -> Ranges {
        let numbers = Ranges::stretch(self.next, count);
        self.next += count;
        let Some(first) = numbers.first() else {
            self.removable.push(stored.id);
            return numbers;
        };
        self.bytes += stored.bytes;
        let Stored { id, bytes, oldest, newest, age } = stored;
        let numbers_too = numbers.clone();
        let (left, id, aged) = (count, Some(id), (now, age));
        let block = Block { numbers: numbers_too, left, id, bytes, oldest, newest, aged, is_fetched: false };
        self.blocks.insert(first, block);
        self.cold.insert(first, numbers.clone());
        self.cold_count += count;
        self.durable += count;
        numbers
    }

    /// The broker has it, or it was given up; told once.
    pub(super) fn settle(&mut self, number: u64) {
        if let Some(item) = self.fresh.remove(&number) {
            self.fresh_bytes -= item.bytes();
            if self.fresh.is_empty() {
                self.fresh_since = None;
            }
            return;
        }
        let Some((first, block)) = self.blocks.range_mut(..=number).next_back() else { return };
        if !block.numbers.contains(number) {
            return;
        }
        block.left = block.left.saturating_sub(1);
        if block.id.is_some() {
            self.durable = self.durable.saturating_sub(1);
        }
        if block.left == 0 && block.id.is_some() {
            let first = *first;
            self.remove(first);
        }
    }

    fn remove(&mut self, first: u64) -> Option<Block> {
        let block = self.blocks.remove(&first)?;
        let cold = self.cold.remove(&first).map_or(0, |pending| pending.len());
        self.cold_count = self.cold_count.saturating_sub(cold);
        if let Some(id) = block.id {
            self.removable.push(id);
            self.durable = self.durable.saturating_sub(block.left);
            self.bytes = self.bytes.saturating_sub(block.bytes);
        }
        Some(block)
    }

    /// The next block to write, when its time has come, or at once with `all`. What is not `wanted` is not written.
    pub(super) fn due(&mut self, now: Instant, all: bool, wanted: impl Fn(&T) -> bool) -> Option<Due<T>> {
        loop {
            if self.fresh.is_empty() {
                self.is_due = false;
                return None;
            }
            let since = self.fresh_since.unwrap_or(now);
            let is_whole = self.fresh.len() >= PER_BLOCK || self.fresh_bytes >= BYTES_PER_BLOCK || self.is_due;
            if !all && now.saturating_duration_since(since) < self.flush && !is_whole {
                return None;
            }
            let rest = match self.first_beyond_a_block() {
                Some(first) => self.fresh.split_off(&first),
                None => BTreeMap::new(),
            };
            let mut taken = std::mem::replace(&mut self.fresh, rest);
            self.fresh_bytes -= taken.values().map(Item::bytes).sum::<usize>();
            self.fresh_since = (!self.fresh.is_empty()).then_some(now);
            taken.retain(|_, item| wanted(item));
            let numbers: Ranges = taken.keys().copied().collect();
            let Some(first) = numbers.first() else { continue };
            let items: Vec<_> = taken.into_values().collect();
            let times = || items.iter().map(Item::came);
            let (oldest, newest) =
                times().fold((Timestamp::MAX, Timestamp::MIN), |(oldest, newest), at| (oldest.min(at), newest.max(at)));
            let left = numbers.len();
            let aged = (now, Duration::ZERO);
            let block = Block { numbers, left, id: None, bytes: 0, oldest, newest, aged, is_fetched: false };
            self.blocks.insert(first, block);
            return Some(Due { first, items });
        }
    }

    /// The first number that is too much for one block; a block has one item at least.
    fn first_beyond_a_block(&self) -> Option<u64> {
        let mut bytes = 0;
        let mut beyond = self.fresh.iter().enumerate().filter(|(place, (_, item))| {
            bytes += item.bytes();
            *place > 0 && (*place >= PER_BLOCK || bytes > BYTES_PER_BLOCK)
        });
        beyond.next().map(|(_, (number, _))| *number)
    }

    /// The bytes of what is in memory and on its way into the journal.
    pub(super) const fn fresh_bytes(&self) -> usize {
        self.fresh_bytes
    }

    /// Whether an item is in the database.
    pub(super) fn is_stored(&self, number: u64) -> bool {
        let block = self.blocks.range(..=number).next_back();
        block.is_some_and(|(_, block)| block.id.is_some() && block.numbers.contains(number))
    }

    /// Items that were sent, and left the memory, are wanted again. Gives how many of them no block has any more.
    pub(super) fn want_again(&mut self, numbers: &Ranges) -> u64 {
        let (mut wanted, mut gone): (BTreeMap<u64, Vec<u64>>, u64) = (BTreeMap::new(), 0);
        for number in numbers.iter() {
            match self.blocks.range(..=number).next_back() {
                Some((first, block)) if block.numbers.contains(number) => {
                    wanted.entry(*first).or_default().push(number)
                }
                _ => gone += 1,
            }
        }
        for (first, mut numbers) in wanted {
            let before = self.cold.remove(&first).unwrap_or_default();
            self.cold_count = self.cold_count.saturating_sub(before.len());
            numbers.extend(before.iter());
            numbers.sort_unstable();
            numbers.dedup();
            self.cool(first, numbers.into_iter().collect());
        }
        gone
    }

    /// A block is in the database.
    pub(super) fn written(&mut self, first: u64, id: u64, bytes: u64) {
        let Some(block) = self.blocks.get_mut(&first) else { return };
        (block.id, block.bytes) = (Some(id), bytes);
        self.bytes += bytes;
        self.durable += block.left;
        if block.left == 0 {
            self.remove(first);
        }
    }

    /// The newest block that is in the database and in memory too, and whose turn has not come.
    pub(super) fn warmest(&self) -> Option<(u64, &Ranges)> {
        let mut warm = self.blocks.iter().rev().filter(|(first, _)| !self.cold.contains_key(first));
        warm.find(|(_, block)| block.id.is_some() && !block.is_fetched).map(|(first, block)| (*first, &block.numbers))
    }

    /// Samples of a block left the memory.
    pub(super) fn cool(&mut self, first: u64, pending: Ranges) {
        if !pending.stretches().is_empty() {
            self.cold_count += pending.len();
            self.cold.insert(first, pending);
        }
    }

    /// The number from which on samples have to wait for those that are in the database only.
    pub(super) fn barrier(&self) -> u64 {
        self.cold.values().next().and_then(Ranges::first).unwrap_or(u64::MAX)
    }

    /// The oldest block that is in the database only: its first number, and its number there.
    pub(super) fn coldest(&self) -> Option<(u64, u64)> {
        let first = *self.cold.keys().next()?;
        Some((first, self.blocks.get(&first)?.id?))
    }

    /// The samples of a block are in memory again: all its numbers, and those that were out of it.
    pub(super) fn warm(&mut self, first: u64) -> Option<(Ranges, Ranges)> {
        let pending = self.cold.remove(&first)?;
        self.cold_count = self.cold_count.saturating_sub(pending.len());
        let block = self.blocks.get_mut(&first)?;
        block.is_fetched = true;
        Some((block.numbers.clone(), pending))
    }

    /// Leaves a block alone that cannot be read: it stays in the database.
    pub(super) fn set_aside(&mut self, first: u64) -> u64 {
        let count = self.cold.get(&first).map_or(0, Ranges::len);
        if self.remove(first).is_some() {
            self.removable.pop();
        }
        count
    }

    /// Gives up the oldest block of the database, if its newest sample has waited for longer than that.
    pub(super) fn give_up(&mut self, limit: Duration, now: Instant) -> Option<GivenUp> {
        let (first, block) = self.blocks.iter().next()?;
        if block.id.is_none() || block.age(now) < limit {
            return None;
        }
        let first = *first;
        let cold = self.cold.get(&first).map_or(0, Ranges::len);
        let block = self.remove(first)?;
        Some(GivenUp { numbers: block.numbers, cold, oldest: block.oldest, newest: block.newest })
    }

    /// The blocks of the database that are needed no more.
    pub(super) fn take_removable(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.removable)
    }

    /// Blocks that could not be removed yet.
    pub(super) fn give_back(&mut self, blocks: Vec<u64>) {
        self.removable.extend(blocks);
    }

    /// Whether nothing is on its way into the journal or out of it.
    pub(super) fn is_at_rest(&self) -> bool {
        self.fresh.is_empty() && self.removable.is_empty() && self.blocks.values().all(|block| block.id.is_some())
    }

    /// How many samples wait in blocks of the database.
    pub(super) const fn durable(&self) -> u64 {
        self.durable
    }

    /// How many samples are in the database only.
    pub(super) const fn cold(&self) -> u64 {
        self.cold_count
    }

    /// The bytes of all blocks in the database.
    pub(super) const fn bytes(&self) -> u64 {
        self.bytes
    }

    /// How long the oldest block of the database has waited.
    pub(super) fn age(&self, now: Instant) -> Option<Duration> {
        self.blocks.values().next().map(|block| block.age(now))
    }

    /// When the oldest sample of the database that waits came.
    pub(super) fn oldest(&self) -> Option<Timestamp> {
        self.blocks.values().next().map(|block| block.oldest)
    }
}

#[cfg(test)]
mod tests;
