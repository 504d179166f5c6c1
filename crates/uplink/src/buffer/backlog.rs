//! What waits for the broker: in memory, in the database, and how much of it may.

use super::item::Item;
use super::journal::{Journal, News, Order};
use super::ledger::{Due, Ledger, Stored};
use super::losses::{GONE, Losses, TOO_OLD};
use super::memory::{MEMORY, Memory};
use super::numbers::PointNumbers;
use super::past::Past;
use super::queue::Queue;
use interlex_core::description::JournalSettings;
use interlex_core::{Clock, Receipt, Timestamp};
use interlex_store::{JournalEntry, Store};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, timeout_at};

/// How often the broker is asked what it has read, and the journal is looked after.
pub(crate) const TICK: Duration = Duration::from_millis(100);
/// The items of one uplink from report policy to proof, in memory and in the database.
#[derive(Debug)]
pub(crate) struct Backlog<T: Item> {
    name: String,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) settings: JournalSettings,
    pub(crate) context: T::Context,
    pub(crate) queue: Queue<T>,
    pub(super) ledger: Ledger<T>,
    pub(super) journal: Journal<T>,
    /// Whoever wants to know when everything before a number is safe.
    receipts: VecDeque<(u64, Receipt)>,
    has_store: bool,
    /// How many reads of blocks are under way.
    fetching: usize,
    /// Why the database did not take or give the last block, while it does not.
    pub(super) error: Option<String>,
    pub(super) came: u64,
    pub(super) losses: Losses,
    /// Whether there was no room for the last sample.
    pub(super) is_full: bool,
    /// How long after its proof nobody can tell any more that a sample was not heard; `None` where the broker's proof is all.
    settle_after: Option<Duration>,
    pub(super) is_online: bool,
    pub(super) past: Past,
    pub(super) memory: Memory,
}

impl<T: Item> Backlog<T> {
    /// A backlog with what an earlier run left in the database.
    pub(crate) async fn new(
        (gateway, name): (&str, &str),
        settings: &JournalSettings,
        context: T::Context,
        store: Option<&Store>,
        settle_after: Option<Duration>,
        clock: Arc<dyn Clock>,
    ) -> Self {
        let mut backlog = Self {
            name: name.to_owned(),
            clock,
            settings: settings.clone(),
            context,
            queue: Queue::default(),
            // A tick and the way to the database are part of the promise.
            ledger: Ledger::new(Duration::from(settings.journal_flush).saturating_sub(2 * TICK)),
            journal: Journal::new(store, gateway, name),
            receipts: VecDeque::new(),
            has_store: store.is_some(),
            fetching: 0,
            error: None,
            came: 0,
            losses: Losses::new(name),
            is_full: false,
            settle_after,
            is_online: false,
            past: Past::default(),
            memory: MEMORY,
        };
        if let Some(store) = store {
            match store.uplink_gaps(gateway, name).await {
                Ok(gaps) => backlog.losses.restore(gaps),
                Err(error) => tracing::error!(uplink = name, %error, "the gaps of before are not known"),
            }
            match store.journal_entries(gateway, name).await {
                Ok(entries) => backlog.restore(store, entries).await,
                Err(error) => tracing::error!(uplink = name, %error, "the journal stays in the database"),
            }
        }
        backlog
    }

    async fn restore(&mut self, store: &Store, entries: Vec<JournalEntry>) {
        for entry in entries {
            let at = Timestamp::from_millis;
            let (mut oldest, mut newest, mut count) = (at(entry.oldest_at), at(entry.newest_at), entry.count.into());
            if count == 0 {
                // Written before blocks told how many samples they have.
                let samples = store.journal_block(entry.id).await.ok().flatten().unwrap_or_default();
                match T::decode(&samples, &self.context, &PointNumbers::default()) {
                    Ok(samples) => count = samples.len() as u64,
                    Err(error) => {
                        // It stays: perhaps a later version can read it.
                        tracing::error!(uplink = self.name, block = entry.id, %error, "a block of the journal");
                        continue;
                    }
                }
                (oldest, newest) = (self.clock.now(), self.clock.now());
            }
            let age = self.clock.now().since(newest);
            let stored = Stored { id: entry.id, bytes: entry.bytes, oldest, newest, age };
            self.ledger.restore(stored, count, Instant::now().into_std());
        }
        if self.ledger.cold() > 0 {
            tracing::info!(uplink = self.name, samples = self.ledger.cold(), "journal found");
        }
    }

    /// A sample that goes on at once.
    pub(crate) fn push_live(&mut self, lane: usize, item: &T) {
        if self.refuses(item) {
            return;
        }
        let number = self.number(item);
        self.queue.push_live(lane, number, item.clone());
        self.keep_in_limits();
    }

    /// A sample that has to wait.
    pub(crate) fn push_history(&mut self, lane: usize, item: &T) {
        if self.refuses(item) {
            return;
        }
        let number = self.number(item);
        self.queue.push_history(lane, number, item.clone());
        self.keep_in_limits();
    }

    /// Keeps an item in the journal that is still to become a part of another one; gives the number to settle it by.
    pub(crate) fn keep_provisionally(&mut self, item: &T) -> u64 {
        self.ledger.add_due(item)
    }

    /// What was kept provisionally is in another item now.
    pub(crate) fn settle_provisional(&mut self, number: u64) {
        self.ledger.settle(number);
    }

    /// Tells when everything that came so far is safe, and sees to it at once. Without a database nothing ever is: whoever asks is
    /// told so at once, since there is no more to wait for.
    pub(crate) fn keep(&mut self, receipt: Receipt) {
        if !self.has_store {
            return receipt.stored();
        }
        self.ledger.hurry();
        self.receipts.push_back((self.ledger.next(), receipt));
        self.maintain(false);
    }

    fn give_receipts(&mut self) {
        let first_unsafe = self.ledger.first_unsafe();
        while let Some((_, receipt)) = self.receipts.pop_front_if(|(before, _)| *before <= first_unsafe) {
            receipt.stored();
        }
    }

    /// Samples are lost before they could become items.
    pub(crate) fn lose(&mut self, count: u64, from: Timestamp, to: Timestamp, why: &'static str) {
        self.came += count;
        self.losses.add(count, from, to, why);
    }

    fn number(&mut self, item: &T) -> u64 {
        self.came += 1;
        self.ledger.add(item, Instant::now().into_std())
    }

    pub(super) fn settle_in_ledger(&mut self) {
        for number in self.queue.take_settled() {
            self.ledger.settle(number);
        }
    }

    /// What is next of the history, in time order.
    pub(crate) fn take_history(&mut self, most: usize, is_ready: impl Fn(usize) -> bool) -> Option<(usize, Vec<T>)> {
        let taken = self.queue.take_history(most, self.ledger.barrier(), is_ready);
        if self.queue.bytes() < self.memory.fetch_below || (taken.is_none() && self.memory_bytes() < self.memory.most) {
            self.fetch();
        }
        taken
    }

    /// Whether something waits beside what is new.
    pub(crate) fn has_history(&self) -> bool {
        self.queue.history_len() > 0 || self.ledger.cold() > 0
    }

    /// Brings the oldest block back that is in the database only.
    fn fetch(&mut self) {
        if self.fetching > 0 || !self.journal.has_room() {
            return;
        }
        if let Some((first, id)) = self.ledger.coldest()
            && self.journal.order(Order::Read { first, id }).is_ok()
        {
            self.fetching += 1;
        }
    }

    /// What the database has to tell.
    pub(crate) async fn news(&mut self) -> News {
        self.journal.next().await
    }

    pub(crate) fn handle_news(&mut self, news: News) {
        match news {
            News::Written { first, id, bytes } => {
                self.error = None;
                self.ledger.written(first, id, bytes);
                self.give_receipts();
            }
            News::Read { first, samples, numbers } => {
                self.error = None;
                self.fetching -= 1;
                self.warm(first, &samples, &numbers);
            }
            News::Failed(error) => self.error = Some(error),
        }
    }

    fn warm(&mut self, first: u64, samples: &[u8], numbers: &PointNumbers) {
        let samples = match T::decode(samples, &self.context, numbers) {
            Ok(samples) => samples,
            Err(error) => {
                // It stays: perhaps a later version can read it.
                let count = self.ledger.set_aside(first);
                tracing::error!(uplink = self.name, %error, samples = count, "a block of the journal cannot be read");
                return;
            }
        };
        // It may have been given up meanwhile.
        let Some((numbers, pending)) = self.ledger.warm(first) else { return };
        let mut numbered = numbers.iter().zip(samples).filter(|(number, _)| pending.contains(*number));
        for number in pending.iter() {
            let item = numbered.find(|(known, _)| *known == number).map(|(_, item)| item);
            let came = match item {
                Some(Ok(item)) => match item.lane(&self.context) {
                    Some(lane) => {
                        self.queue.push_history(lane, number, item);
                        continue;
                    }
                    None => item.came(),
                },
                Some(Err(came)) => came,
                // The block is gone from the database.
                None => self.clock.now(),
            };
            self.ledger.settle(number);
            self.losses.add_gone(came);
        }
    }

    /// The broker answered the question. Tells how many samples it has read, and how many of them count as delivered.
    pub(crate) fn proven(&mut self) -> (usize, usize) {
        let until = self.settle_after.map(|after| Instant::now().into_std() + after);
        let proven = self.queue.proven(until);
        (proven, if until.is_none() { proven } else { 0 })
    }

    /// What was proven long enough ago counts as delivered; all of it where somebody says that the host was there all along.
    pub(crate) fn settle(&mut self, all: bool) -> usize {
        self.queue.settle((!all).then(|| Instant::now().into_std()))
    }

    /// The primary host was not there: what the broker has read may have reached nobody.
    pub(crate) fn nobody_heard(&mut self) {
        let stored = self.queue.nobody_heard();
        let gone = self.ledger.want_again(&stored);
        self.losses.add(gone, self.clock.now(), self.clock.now(), TOO_OLD);
        self.queue.nothing_arrived();
    }

    /// Drops samples of points that are described no more.
    pub(crate) fn drop_unknown(&mut self) {
        let context = &self.context;
        let gone = self.queue.keep_only(|item| item.lane(context).is_some());
        let ends = gone.iter().min().copied().zip(gone.iter().max().copied());
        if let Some((from, to)) = ends {
            self.losses.add(gone.len() as u64, from, to, GONE);
        }
    }

    /// How many of the samples that wait are of points that another description does not have, as far as that is known: of
    /// what is in the database only it is not.
    pub(crate) fn count_unknown(&self, context: &T::Context) -> u64 {
        self.queue.count_unknown(|item| item.lane(context).is_some())
    }

    /// Hands over what is due: blocks to write, and blocks that are needed no more; and holds age and size.
    pub(crate) fn maintain(&mut self, all: bool) {
        self.settle_in_ledger();
        if !self.has_store {
            return;
        }
        if let Some(gaps) = self.losses.unstored()
            && self.journal.has_room()
            && self.journal.order(Order::KeepGaps(gaps)).is_ok()
        {
            self.losses.stored();
        }
        while self.journal.has_room() {
            let context = &self.context;
            let is_known = |item: &T| item.lane(context).is_some();
            let Some(Due { first, items }) = self.ledger.due(Instant::now().into_std(), all, is_known) else { break };
            let context = self.context.clone();
            let sent = self.journal.order(Order::Write { first, items, context });
            debug_assert!(sent.is_ok(), "there was room");
        }
        self.give_receipts();
        self.give_up_old();
        self.leave_memory();
        let removable = self.ledger.take_removable();
        if !removable.is_empty()
            && let Err(Order::Remove(blocks)) = self.journal.order(Order::Remove(removable))
        {
            self.ledger.give_back(blocks);
        }
    }

    /// At the end: everything that is not proven goes into the database, and what is proven out of it.
    pub(crate) async fn close(&mut self, within: Duration) {
        if !self.has_store {
            return;
        }
        let deadline = Instant::now() + within;
        loop {
            self.maintain(true);
            if self.ledger.is_at_rest() && self.journal.is_idle() {
                tracing::info!(uplink = self.name, samples = self.ledger.durable(), "journal kept");
                return;
            }
            // The writer tells nothing of what it removes: a moment later the queue is looked at again.
            let moment = deadline.min(Instant::now() + Duration::from_millis(20));
            match timeout_at(moment, self.journal.next()).await {
                Ok(news) => self.handle_news(news),
                Err(_) if Instant::now() < deadline => {}
                Err(_) => {
                    let samples = self.waiting().saturating_sub(self.ledger.durable());
                    tracing::error!(uplink = self.name, samples, error = self.error, "samples lost: no database");
                    return;
                }
            }
        }
    }

    /// How many samples are not proven to be with the broker.
    pub(crate) fn waiting(&self) -> u64 {
        self.queue.len() as u64 + self.ledger.cold()
    }

    /// How many samples wait in the database only.
    pub(crate) const fn cold(&self) -> u64 {
        self.ledger.cold()
    }

    /// So many were lost by earlier runs.
    pub(crate) const fn was_lost_before(&mut self, count: u64) {
        self.losses.was_lost_before(count);
    }

    /// How many are lost.
    pub(crate) const fn lost(&self) -> u64 {
        self.losses.count()
    }

    /// Writes down how things are, for the picture of the last hours.
    pub(crate) fn record_past(&mut self, delivered: u64, is_online: bool) {
        let now = self.clock.now();
        self.is_online = is_online;
        self.past.record(now, (self.came, delivered, self.waiting(), self.losses.count()), is_online);
    }
}

#[cfg(test)]
mod tests;
