//! How much may wait, and what goes when it is too much.

use super::backlog::Backlog;
use super::item::Item;
use super::losses::{BY_HAND, NO_MEMORY, NO_ROOM, TOO_OLD};
use interlex_core::description::WhenFull;
use std::time::Duration;
use tokio::time::Instant;

/// The journal's own entries on their way to the database take so many times their bytes.
const FRESH_OVERHEAD: usize = 2;
/// Blocks that are given up at a time.
const AT_A_TIME: usize = 100;
impl<T: Item> Backlog<T> {
    /// Where the newest are to be lost, there may be no room for one more.
    pub(super) fn refuses(&mut self, item: &T) -> bool {
        let is_refused = self.is_full && self.settings.when_full == WhenFull::LoseNewest && !self.has_room();
        if is_refused {
            self.came += 1;
            self.losses.add(1, item.came(), item.came(), NO_ROOM);
        }
        is_refused
    }

    pub(super) fn has_room(&self) -> bool {
        self.memory_bytes() < self.memory.most && self.ledger.bytes() < self.byte_limit()
    }

    pub(super) fn memory_bytes(&self) -> usize {
        self.queue.bytes() + FRESH_OVERHEAD * self.ledger.fresh_bytes()
    }

    pub(super) fn byte_limit(&self) -> u64 {
        u64::from(self.settings.keep_megabytes) * 1_000_000
    }

    /// Drops what is too much for the memory.
    pub(super) fn keep_in_limits(&mut self) {
        while self.memory_bytes() > self.memory.most {
            self.is_full = true;
            let is_oldest = self.settings.when_full == WhenFull::LoseOldest;
            let Some(at) = self.queue.give_up_one(is_oldest) else { return };
            self.settle_in_ledger();
            self.losses.add(1, at, at, NO_MEMORY);
        }
    }

    /// What is too old, or too much for the database.
    pub(super) fn give_up_old(&mut self) {
        let keep_for = Duration::from(self.settings.keep_for);
        // A bound on what is done at a time: the rest follows a moment later.
        let mut left = AT_A_TIME;
        while left > 0 && self.give_up(keep_for, TOO_OLD) {
            left -= 1;
        }
        let is_over = self.ledger.bytes() > self.byte_limit();
        if self.settings.when_full == WhenFull::LoseOldest {
            while left > 0 && self.ledger.bytes() > self.byte_limit() && self.give_up(Duration::ZERO, NO_ROOM) {
                left -= 1;
            }
        }
        self.is_full = is_over || self.memory_bytes() >= self.memory.most;
    }

    /// Gives up the oldest block, if it has waited for so long. Tells whether it did.
    fn give_up(&mut self, limit: Duration, why: &'static str) -> bool {
        let Some(gone) = self.ledger.give_up(limit, Instant::now().into_std()) else { return false };
        // What has been sent is with the broker, or comes back as history that no block holds any more.
        let warm = self.queue.take_out(&gone.numbers).len();
        self.losses.add(warm + gone.cold, gone.oldest, gone.newest, why);
        true
    }

    /// With many samples in memory, the newest that are in the database leave it.
    pub(super) fn leave_memory(&mut self) {
        let ledger = &self.ledger;
        self.queue.shed_unsettled(self.memory.usual, |number| ledger.is_stored(number));
        while self.queue.bytes() > self.memory.usual && self.queue.history_len() > 0 {
            let Some((first, numbers)) = self.ledger.warmest() else { return };
            let pending = self.queue.take_out(numbers);
            if pending.stretches().is_empty() {
                return;
            }
            self.ledger.cool(first, pending);
        }
    }

    /// Throws everything away that waits. Tells how many samples that were.
    pub(crate) fn purge(&mut self) -> u64 {
        let now = self.clock.now();
        let from = self.oldest().unwrap_or(now);
        let mut thrown = 0;
        while let Some(gone) = self.ledger.give_up(Duration::ZERO, Instant::now().into_std()) {
            thrown += self.queue.take_out(&gone.numbers).len() + gone.cold;
        }
        while self.queue.give_up_one(true).is_some() {
            thrown += 1;
        }
        self.losses.add(thrown, from, now, BY_HAND);
        self.maintain(false);
        thrown
    }
}
