//! What waits for the broker: in memory, in the database, and how much of it may.

use super::buffer::Buffer;
use super::item::Item;
use super::journal::{Journal, News, Order};
use super::ledger::{Due, Ledger, Stored};
use super::past::Past;
use super::sparkplug::TICK;
use crate::clock::wall_clock;
use crate::status::{BufferState, BufferView, Gap};
use interlex_core::Timestamp;
use interlex_core::description::{JournalSettings, WhenFull};
use interlex_store::{GapRecord, JournalBlock, JournalEntry, Store};
use std::collections::VecDeque;
use std::time::Duration;
use tokio::time::{Instant, timeout_at};

/// How many bytes may be in memory.
#[derive(Debug, Clone, Copy)]
struct Memory {
    /// While the database takes them.
    usual: usize,
    /// When it does not, or holds those of devices that cannot be born.
    most: usize,
    /// With fewer, what is in the database only is fetched.
    fetch_below: usize,
}

/// With what is beside it, an uplink stays below 64 MB: some 200,000 samples, or fewer messages.
const MEMORY: Memory = Memory { usual: 16 << 20, most: 48 << 20, fetch_below: 8 << 20 };
/// The journal's own entries on their way to the database take so many times their bytes.
const FRESH_OVERHEAD: usize = 2;
/// Blocks that are given up at a time.
const AT_A_TIME: usize = 100;
/// Gaps that are remembered for those who ask where samples are missing.
const GAPS: usize = 50;
/// Losses that are no further apart are one gap.
const ONE_GAP: Duration = Duration::from_secs(60);

const NO_ROOM: &str = "no room";
const NO_MEMORY: &str = "no room in memory";
const TOO_OLD: &str = "waited too long";
const GONE: &str = "points that are gone";
const BY_HAND: &str = "thrown away by hand";
/// Why samples were never in a message.
pub(super) const NO_MESSAGE: &str = "their template fails";
const REASONS: [&str; 6] = [NO_ROOM, NO_MEMORY, TOO_OLD, GONE, BY_HAND, NO_MESSAGE];

/// The items of one uplink from report policy to proof, in memory and in the database.
#[derive(Debug)]
pub(super) struct Backlog<T: Item> {
    name: String,
    settings: JournalSettings,
    pub(super) context: T::Context,
    pub(super) buffer: Buffer<T>,
    ledger: Ledger<T>,
    journal: Journal,
    has_store: bool,
    /// How many reads of blocks are under way.
    fetching: usize,
    /// Why the database did not take or give the last block, while it does not.
    error: Option<String>,
    came: u64,
    lost: u64,
    /// Whether there was no room for the last sample.
    is_full: bool,
    gaps: VecDeque<Gap>,
    /// Whether the database knows of all gaps.
    gaps_are_kept: bool,
    /// Where samples of points that are gone were counted by an earlier run.
    told_before: Vec<(i64, i64)>,
    /// How long after its proof nobody can tell any more that a sample was not heard; `None` where the broker's proof is all.
    settle_after: Option<Duration>,
    is_online: bool,
    past: Past,
    memory: Memory,
}

impl<T: Item> Backlog<T> {
    /// A backlog with what an earlier run left in the database.
    pub(super) async fn new(
        (gateway, name): (&str, &str),
        settings: &JournalSettings,
        context: T::Context,
        store: Option<&Store>,
        settle_after: Option<Duration>,
    ) -> Self {
        let mut backlog = Self {
            name: name.to_owned(),
            settings: settings.clone(),
            context,
            buffer: Buffer::default(),
            // A tick and the way to the database are part of the promise.
            ledger: Ledger::new(Duration::from(settings.journal_flush).saturating_sub(2 * TICK)),
            journal: Journal::new(store, gateway, name),
            has_store: store.is_some(),
            fetching: 0,
            error: None,
            came: 0,
            lost: 0,
            is_full: false,
            gaps: VecDeque::new(),
            gaps_are_kept: true,
            told_before: Vec::new(),
            settle_after,
            is_online: false,
            past: Past::default(),
            memory: MEMORY,
        };
        if let Some(store) = store {
            match store.uplink_gaps(gateway, name).await {
                Ok(gaps) => backlog.restore_gaps(gaps),
                Err(error) => tracing::error!(uplink = name, %error, "the gaps of before are not known"),
            }
            match store.journal_entries(gateway, name).await {
                Ok(entries) => backlog.restore(store, entries).await,
                Err(error) => tracing::error!(uplink = name, %error, "the journal stays in the database"),
            }
        }
        backlog
    }

    fn restore_gaps(&mut self, gaps: Vec<GapRecord>) {
        let known = |why: &str| REASONS.into_iter().find(|known| *known == why).unwrap_or("of an earlier version");
        for GapRecord { from, to, count, why } in gaps {
            if why == GONE {
                self.told_before.push((from, to));
            }
            self.lost += count;
            self.gaps.push_back(Gap { from, to, count, why: known(&why) });
        }
    }

    async fn restore(&mut self, store: &Store, entries: Vec<JournalEntry>) {
        for entry in entries {
            let at = Timestamp::from_millis;
            let (mut oldest, mut newest, mut count) = (at(entry.oldest_at), at(entry.newest_at), entry.count.into());
            if count == 0 {
                // Written before blocks told how many samples they have.
                let samples = store.journal_block(entry.id).await.ok().flatten().unwrap_or_default();
                match T::decode(&samples, &self.context) {
                    Ok(samples) => count = samples.len() as u64,
                    Err(error) => {
                        // It stays: perhaps a later version can read it.
                        tracing::error!(uplink = self.name, block = entry.id, %error, "a block of the journal");
                        continue;
                    }
                }
                (oldest, newest) = (wall_clock(), wall_clock());
            }
            self.ledger.restore(Stored { id: entry.id, bytes: entry.bytes, oldest, newest }, count);
        }
        if self.ledger.cold() > 0 {
            tracing::info!(uplink = self.name, samples = self.ledger.cold(), "journal found");
        }
    }

    /// A sample that goes on at once.
    pub(super) fn push_live(&mut self, lane: usize, item: &T) {
        if self.refuses(item) {
            return;
        }
        let number = self.number(item);
        self.buffer.push_live(lane, number, item.clone());
        self.keep_in_limits();
    }

    /// A sample that has to wait.
    pub(super) fn push_history(&mut self, lane: usize, item: &T) {
        if self.refuses(item) {
            return;
        }
        let number = self.number(item);
        self.buffer.push_history(lane, number, item.clone());
        self.keep_in_limits();
    }

    /// Where the newest are to be lost, there may be no room for one more.
    fn refuses(&mut self, item: &T) -> bool {
        let is_refused = self.is_full && self.settings.when_full == WhenFull::LoseNewest && !self.has_room();
        if is_refused {
            self.came += 1;
            self.count_lost(1, item.came(), item.came(), NO_ROOM);
        }
        is_refused
    }

    /// Keeps an item in the journal that is still to become a part of another one; gives the number to settle it by.
    pub(super) fn keep_provisionally(&mut self, item: &T) -> u64 {
        self.ledger.add_due(item)
    }

    /// What was kept provisionally is in another item now.
    pub(super) fn settle_provisional(&mut self, number: u64) {
        self.ledger.settle(number);
    }

    /// Samples are lost before they could become items.
    pub(super) fn lose(&mut self, count: u64, from: Timestamp, to: Timestamp, why: &'static str) {
        self.came += count;
        self.count_lost(count, from, to, why);
    }

    fn number(&mut self, item: &T) -> u64 {
        self.came += 1;
        self.ledger.add(item, Instant::now().into_std())
    }

    fn has_room(&self) -> bool {
        self.memory_bytes() < self.memory.most && self.ledger.bytes() < self.byte_limit()
    }

    fn memory_bytes(&self) -> usize {
        self.buffer.bytes() + FRESH_OVERHEAD * self.ledger.fresh_bytes()
    }

    fn byte_limit(&self) -> u64 {
        u64::from(self.settings.keep_megabytes) * 1_000_000
    }

    /// Drops what is too much for the memory.
    fn keep_in_limits(&mut self) {
        while self.memory_bytes() > self.memory.most {
            self.is_full = true;
            let is_oldest = self.settings.when_full == WhenFull::LoseOldest;
            let Some(at) = self.buffer.give_up_one(is_oldest) else { return };
            self.settle_in_ledger();
            self.count_lost(1, at, at, NO_MEMORY);
        }
    }

    fn settle_in_ledger(&mut self) {
        for number in self.buffer.take_settled() {
            self.ledger.settle(number);
        }
    }

    fn count_lost(&mut self, count: u64, from: Timestamp, to: Timestamp, why: &'static str) {
        if count == 0 {
            return;
        }
        self.lost += count;
        self.gaps_are_kept = false;
        let (from, to) = (from.as_millis(), to.as_millis());
        let reach = i64::try_from(ONE_GAP.as_millis()).unwrap_or(i64::MAX);
        match self.gaps.back_mut() {
            Some(gap) if gap.why == why && from <= gap.to + reach => {
                (gap.from, gap.to, gap.count) = (gap.from.min(from), gap.to.max(to), gap.count + count);
            }
            _ => {
                tracing::error!(uplink = self.name, why, "samples are being lost");
                if self.gaps.len() == GAPS {
                    self.gaps.pop_front();
                }
                self.gaps.push_back(Gap { from, to, count, why });
            }
        }
    }

    /// What is next of the history, in time order.
    pub(super) fn take_history(&mut self, most: usize, is_ready: impl Fn(usize) -> bool) -> Option<(usize, Vec<T>)> {
        let taken = self.buffer.take_history(most, self.ledger.barrier(), is_ready);
        if self.buffer.bytes() < self.memory.fetch_below || (taken.is_none() && self.memory_bytes() < self.memory.most)
        {
            self.fetch();
        }
        taken
    }

    /// Whether something waits beside what is new.
    pub(super) fn has_history(&self) -> bool {
        self.buffer.history_len() > 0 || self.ledger.cold() > 0
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
    pub(super) async fn news(&mut self) -> News {
        self.journal.next().await
    }

    pub(super) fn hear(&mut self, news: News) {
        match news {
            News::Written { first, id, bytes } => {
                self.error = None;
                self.ledger.written(first, id, bytes);
            }
            News::Read { first, samples } => {
                self.error = None;
                self.fetching -= 1;
                self.warm(first, &samples);
            }
            News::Failed(error) => self.error = Some(error),
        }
    }

    fn warm(&mut self, first: u64, samples: &[u8]) {
        let samples = match T::decode(samples, &self.context) {
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
                        self.buffer.push_history(lane, number, item);
                        continue;
                    }
                    None => item.came(),
                },
                Some(Err(came)) => came,
                // The block is gone from the database.
                None => wall_clock(),
            };
            self.ledger.settle(number);
            let at = came.as_millis();
            if !self.told_before.iter().any(|(from, to)| (*from..=*to).contains(&at)) {
                self.count_lost(1, came, came, GONE);
            }
        }
    }

    /// The broker answered the question. Tells how many samples it has read, and how many of them count as delivered.
    pub(super) fn proven(&mut self) -> (usize, usize) {
        let until = self.settle_after.map(|after| Instant::now().into_std() + after);
        let proven = self.buffer.proven(until);
        (proven, if until.is_none() { proven } else { 0 })
    }

    /// What was proven long enough ago counts as delivered; all of it where somebody says that the host was there all along.
    pub(super) fn settle(&mut self, all: bool) -> usize {
        self.buffer.settle((!all).then(|| Instant::now().into_std()))
    }

    /// The primary host was not there: what the broker has read may have reached nobody.
    pub(super) fn nobody_heard(&mut self) {
        let stored = self.buffer.nobody_heard();
        let gone = self.ledger.want_again(&stored);
        self.count_lost(gone, wall_clock(), wall_clock(), TOO_OLD);
        self.buffer.nothing_arrived();
    }

    /// Drops samples of points that are described no more.
    pub(super) fn drop_unknown(&mut self) {
        let context = &self.context;
        let gone = self.buffer.keep_only(|item| item.lane(context).is_some());
        let ends = gone.iter().min().copied().zip(gone.iter().max().copied());
        if let Some((from, to)) = ends {
            self.count_lost(gone.len() as u64, from, to, GONE);
        }
    }

    /// How many of the samples that wait are of points that another description does not have, as far as that is known: of
    /// what is in the database only it is not.
    pub(super) fn count_unknown(&self, context: &T::Context) -> u64 {
        self.buffer.count_unknown(|item| item.lane(context).is_some())
    }

    /// Hands over what is due: blocks to write, and blocks that are needed no more; and holds age and size.
    pub(super) fn keep(&mut self, all: bool) {
        self.settle_in_ledger();
        if !self.has_store {
            return;
        }
        self.keep_gaps();
        while self.journal.has_room() {
            let context = &self.context;
            let is_known = |item: &T| item.lane(context).is_some();
            let Some(Due { first, items }) = self.ledger.due(Instant::now().into_std(), all, is_known) else { break };
            let times = || items.iter().map(|item| item.came().as_millis());
            let block = JournalBlock {
                samples: T::encode(&items, context),
                count: u32::try_from(items.len()).unwrap_or(u32::MAX),
                oldest_at: times().min().unwrap_or(0),
                newest_at: times().max().unwrap_or(0),
            };
            let sent = self.journal.order(Order::Write { first, block });
            debug_assert!(sent.is_ok(), "there was room");
        }
        self.give_up_old();
        self.leave_memory();
        let removable = self.ledger.take_removable();
        if !removable.is_empty()
            && let Err(Order::Remove(blocks)) = self.journal.order(Order::Remove(removable))
        {
            self.ledger.give_back(blocks);
        }
    }

    fn keep_gaps(&mut self) {
        if self.gaps_are_kept || !self.journal.has_room() {
            return;
        }
        let record = |gap: &Gap| GapRecord { from: gap.from, to: gap.to, count: gap.count, why: gap.why.to_owned() };
        self.gaps_are_kept = self.journal.order(Order::KeepGaps(self.gaps.iter().map(record).collect())).is_ok();
    }

    /// What is too old, or too much for the database.
    fn give_up_old(&mut self) {
        let limit = Duration::from(self.settings.keep_for);
        let age = i64::try_from(limit.as_millis()).unwrap_or(i64::MAX);
        let until = Timestamp::from_millis(wall_clock().as_millis().saturating_sub(age));
        // A bound on what is done at a time: the rest follows a moment later.
        let mut left = AT_A_TIME;
        while left > 0 && self.give_up(until, TOO_OLD) {
            left -= 1;
        }
        let is_over = self.ledger.bytes() > self.byte_limit();
        if self.settings.when_full == WhenFull::LoseOldest {
            while left > 0 && self.ledger.bytes() > self.byte_limit() && self.give_up(Timestamp::MAX, NO_ROOM) {
                left -= 1;
            }
        }
        self.is_full = is_over || self.memory_bytes() >= self.memory.most;
    }

    /// Gives up the oldest block, if it is no newer than that. Tells whether it did.
    fn give_up(&mut self, until: Timestamp, why: &'static str) -> bool {
        let Some(gone) = self.ledger.give_up(until) else { return false };
        // What has been sent is with the broker, or comes back as history that no block holds any more.
        let warm = self.buffer.take_out(&gone.numbers).len();
        self.count_lost(warm + gone.cold, gone.oldest, gone.newest, why);
        true
    }

    /// With many samples in memory, the newest that are in the database leave it.
    fn leave_memory(&mut self) {
        let ledger = &self.ledger;
        self.buffer.shed_unsettled(self.memory.usual, |number| ledger.is_stored(number));
        while self.buffer.bytes() > self.memory.usual && self.buffer.history_len() > 0 {
            let Some((first, numbers)) = self.ledger.warmest() else { return };
            let pending = self.buffer.take_out(numbers);
            if pending.stretches().is_empty() {
                return;
            }
            self.ledger.cool(first, pending);
        }
    }

    /// Throws everything away that waits. Tells how many samples that were.
    pub(super) fn purge(&mut self) -> u64 {
        let now = wall_clock();
        let from = self.oldest().unwrap_or(now);
        let mut thrown = 0;
        while let Some(gone) = self.ledger.give_up(Timestamp::MAX) {
            thrown += self.buffer.take_out(&gone.numbers).len() + gone.cold;
        }
        while self.buffer.give_up_one(true).is_some() {
            thrown += 1;
        }
        self.count_lost(thrown, from, now, BY_HAND);
        self.keep(false);
        thrown
    }

    /// At the end: everything that is not proven goes into the database, and what is proven out of it.
    pub(super) async fn close(&mut self, within: Duration) {
        if !self.has_store {
            return;
        }
        let deadline = Instant::now() + within;
        loop {
            self.keep(true);
            if self.ledger.is_at_rest() && self.journal.is_idle() {
                tracing::info!(uplink = self.name, samples = self.ledger.durable(), "journal kept");
                return;
            }
            // The writer tells nothing of what it removes: a moment later the queue is looked at again.
            let moment = deadline.min(Instant::now() + Duration::from_millis(20));
            match timeout_at(moment, self.journal.next()).await {
                Ok(news) => self.hear(news),
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
    pub(super) fn waiting(&self) -> u64 {
        self.buffer.len() as u64 + self.ledger.cold()
    }

    /// How many samples wait in the database only.
    pub(super) const fn cold(&self) -> u64 {
        self.ledger.cold()
    }

    fn oldest(&self) -> Option<Timestamp> {
        self.buffer.oldest().into_iter().chain(self.ledger.oldest()).min()
    }

    /// Writes down how things are, for the picture of the last hours.
    pub(super) fn note(&mut self, delivered: u64, is_online: bool) {
        let now = wall_clock();
        self.is_online = is_online;
        self.past.note(now, (self.came, delivered, self.waiting(), self.lost), is_online);
    }

    /// How things are.
    pub(super) fn state(&self, delivered: u64) -> BufferState {
        let (into, out) = self.past.rates((self.came, delivered), wall_clock());
        let (waiting, bytes, durable) = (self.waiting(), self.ledger.bytes(), self.ledger.durable());
        #[expect(clippy::cast_precision_loss, reason = "estimates")]
        let seconds = |amount: u64, per_second: f64| (per_second > 0.0).then(|| amount as f64 / per_second);
        let per_sample = if durable > 0 { bytes.div_ceil(durable) } else { 16 };
        let room = self.byte_limit().saturating_sub(bytes) / per_sample.max(1);
        // Messages that are still being gathered are in the database, but wait for no broker.
        let oldest = self.oldest().filter(|_| waiting > 0);
        // By age, the first ones are lost when the oldest has waited long enough.
        let age = oldest.map_or(Duration::ZERO, |oldest| wall_clock().since(oldest));
        let keep_for = Duration::from(self.settings.keep_for);
        let is_filling = waiting > 0 && durable > 0 && out < into / 2.0;
        let by_size = seconds(room, into - out).filter(|_| is_filling);
        let by_age = is_filling.then(|| keep_for.saturating_sub(age).as_secs_f64());
        BufferState {
            waiting,
            durable,
            bytes,
            lost: self.lost,
            is_full: self.is_full || (is_filling && age >= keep_for),
            unsettled: self.buffer.unsettled_len(),
            came: self.came,
            oldest_at: oldest.map(Timestamp::as_millis),
            journal_error: self.error.clone(),
            in_per_second: into,
            out_per_second: out,
            // What waits for a moment only says nothing of how things go.
            seconds_to_full: by_size.into_iter().chain(by_age).min_by(f64::total_cmp),
            seconds_to_drained: seconds(waiting, out - into).filter(|_| waiting > 0 && durable > 0 && self.is_online),
        }
    }

    /// Everything that there is to see.
    pub(super) fn view(&self, delivered: u64) -> BufferView {
        let gaps = self.gaps.iter().cloned().collect();
        BufferView { state: self.state(delivered), gaps, past: self.past.moments() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::points::PointTable;
    use interlex_core::description::{Files, Span, read};
    use interlex_core::{PointIndex, Quality, Sample, Value};
    use interlex_sidecar::{Database, own_socket};
    use std::sync::Arc;

    fn points() -> Arc<PointTable> {
        let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                    \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let rows = "name,address,type,rate\na,input:0,uint32,r\nb,input:2,uint32,r\n";
        let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), rows.into())].into();
        Arc::new(PointTable::new(&read(&files).unwrap(), &PointTable::default()))
    }

    fn settings(when_full: WhenFull) -> JournalSettings {
        JournalSettings {
            journal_flush: Span::from_millis(1),
            keep_for: Span::from_millis(86_400_000),
            keep_megabytes: 1,
            when_full,
            history_share: 50,
        }
    }

    /// The n-th sample of all: of two points in turn.
    fn sample(n: u64) -> Sample {
        let at = Timestamp::from_millis(wall_clock().as_millis() - 1_000_000 + i64::try_from(n).unwrap());
        let point = PointIndex(u32::try_from(n % 2).unwrap());
        Sample { point, value: Some(Value::Uint(n)), quality: Quality::Good, source_time: at, gateway_time: at }
    }

    /// Lets the database do what it has been told, and what follows from it.
    async fn settle(backlog: &mut Backlog<Sample>) {
        loop {
            backlog.keep(true);
            if backlog.ledger.is_at_rest() && backlog.journal.is_idle() && backlog.fetching == 0 {
                return;
            }
            if let Ok(news) = tokio::time::timeout(Duration::from_millis(20), backlog.news()).await {
                backlog.hear(news);
            }
        }
    }

    /// Takes everything out as history, as a broker that proves at once would have it.
    async fn drain(backlog: &mut Backlog<Sample>) -> Vec<u64> {
        let mut values = Vec::new();
        while backlog.waiting() > 0 {
            while let Some((_, samples)) = backlog.take_history(300, |_| true) {
                values.extend(samples.iter().map(|sample| match sample.value {
                    Some(Value::Uint(n)) => n,
                    _ => panic!("{sample:?}"),
                }));
                assert!(backlog.buffer.len() < 3000, "{} in memory", backlog.buffer.len());
            }
            if backlog.buffer.ask() {
                backlog.proven();
            }
            settle(backlog).await;
        }
        values
    }

    #[tokio::test]
    async fn more_than_the_memory_holds_goes_through_the_database_in_order() {
        let directory = tempfile::tempdir().unwrap();
        let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
        let store = Store::new(&database.url("interlex")).unwrap();
        store.migrate().await.unwrap();
        let bytes = sample(0).bytes();
        let memory = Memory { usual: 1000 * bytes, most: 5000 * bytes, fetch_below: 500 * bytes };
        let open = async |uplink: &str, when_full| {
            let backlog = Backlog::new(("g", uplink), &settings(when_full), points(), Some(&store), None).await;
            Backlog { memory, ..backlog }
        };

        let mut backlog = open("cloud", WhenFull::LoseOldest).await;
        for n in 0..6000 {
            backlog.push_history(0, &sample(n));
            if n % 300 == 0 {
                settle(&mut backlog).await;
            }
        }
        settle(&mut backlog).await;
        assert_eq!((backlog.waiting(), backlog.ledger.durable(), backlog.lost), (6000, 6000, 0));
        assert!(backlog.buffer.len() <= 1300, "{} in memory", backlog.buffer.len());
        // Some are sent and proved, some are sent and come back, and others come meanwhile.
        let (_, first) = backlog.take_history(100, |_| true).unwrap();
        assert_eq!((first.len(), backlog.buffer.ask(), backlog.proven()), (100, true, (100, 100)));
        backlog.take_history(50, |_| true).unwrap();
        backlog.buffer.nothing_arrived();
        backlog.push_history(0, &sample(6000));
        settle(&mut backlog).await;
        drop(backlog);

        let mut again = open("cloud", WhenFull::LoseOldest).await;
        // A block stays until all of it is proved: what was proved of the second one comes again.
        assert!(again.waiting() >= 6000, "{:?}", again.state(0));
        let mut drained = drain(&mut again).await;
        assert!([0, 1].iter().all(|point| drained.iter().filter(|n| **n % 2 == *point).is_sorted()), "in order");
        drained.sort_unstable();
        drained.retain(|n| *n > 0);
        assert_eq!(drained, (1..6001).collect::<Vec<_>>());
        assert!(store.journal_entries("g", "cloud").await.unwrap().is_empty());

        for (when_full, uplink) in [(WhenFull::LoseOldest, "oldest"), (WhenFull::LoseNewest, "newest")] {
            let mut full = open(uplink, when_full).await;
            for n in 0..200_000 {
                full.push_history(0, &sample(n));
                if n % 2000 == 0 {
                    settle(&mut full).await;
                }
            }
            settle(&mut full).await;
            let state = full.state(0);
            assert!(state.bytes <= 1_050_000 && state.lost > 50_000, "{state:?}");
            assert_eq!(state.waiting + state.lost, 200_000, "every one is accounted for");
            assert_eq!(full.view(0).gaps.iter().map(|gap| gap.count).sum::<u64>(), state.lost);
            let kept = drain(&mut full).await;
            let (first, last) = (kept[0], *kept.last().unwrap());
            assert!(kept.windows(2).all(|pair| pair[1] > pair[0]), "in order");
            assert_eq!(
                (first == 0, last == 199_999),
                (when_full == WhenFull::LoseNewest, when_full == WhenFull::LoseOldest)
            );
            full.push_history(0, &sample(1));
            assert_eq!((full.purge(), full.waiting()), (1, 0));
        }
        store.close().await;
        database.stop().await;
    }
}
