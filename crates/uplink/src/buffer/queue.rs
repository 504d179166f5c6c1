use super::item::Item;
use super::ranges::Ranges;
use interlex_core::Timestamp;
use std::collections::{BTreeMap, VecDeque};
use std::time::Instant;

/// The items of one uplink that are in memory, between report policy and proof of delivery.
///
/// ```text
/// push ──▶ live ──take_live──▶ unproven ──proven──▶ unsettled ──settle──▶ gone
///   │                             │                    │
///   └──▶ history ◀── lost ────────┴─── nobody_heard ───┘      history ──take_history──▶ unproven
///        (per lane)
/// ```
///
/// What is proven is with the broker. Where that does not mean that the primary host has it, it is unsettled for a while.
///
/// Samples are numbered as they come; in a lane's history they stand in the order of their numbers.
#[derive(Debug)]
pub(crate) struct Queue<T> {
    live: VecDeque<(usize, Numbered<T>)>,
    history: BTreeMap<usize, VecDeque<Numbered<T>>>,
    history_len: usize,
    unproven: VecDeque<(usize, Numbered<T>)>,
    unsettled: VecDeque<Unsettled<T>>,
    /// The bytes of everything in memory.
    bytes: usize,
    /// The numbers of samples that are proven or given up, until somebody asks for them.
    settled: Vec<u64>,
    /// How many of the unproven a question to the broker, under way, will prove.
    asked: Option<usize>,
}

/// A sample and the number that the journal knows it by.
#[derive(Debug, Clone, PartialEq)]
struct Numbered<T> {
    number: u64,
    item: T,
}

/// What was proven at one moment.
#[derive(Debug)]
struct Unsettled<T> {
    /// When nobody can tell any more that it was not heard.
    until: Instant,
    items: Vec<(usize, Numbered<T>)>,
    /// The numbers of what left the memory, and is in the database.
    stored: Ranges,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self {
            live: VecDeque::new(),
            history: BTreeMap::new(),
            history_len: 0,
            unproven: VecDeque::new(),
            unsettled: VecDeque::new(),
            bytes: 0,
            settled: Vec::new(),
            asked: None,
        }
    }
}

impl<T: Item> Queue<T> {
    /// A sample to send as soon as possible.
    pub(crate) fn push_live(&mut self, lane: usize, number: u64, item: T) {
        self.bytes += item.bytes();
        self.live.push_back((lane, Numbered { number, item }));
    }

    /// A sample to keep until there is a session again.
    pub(crate) fn push_history(&mut self, lane: usize, number: u64, item: T) {
        self.bytes += item.bytes();
        self.insert(lane, number, item);
    }

    fn insert(&mut self, lane: usize, number: u64, item: T) {
        let kept = self.history.entry(lane).or_default();
        // As a rule it is newer than all others, or older.
        let at = match (kept.front(), kept.back()) {
            (_, Some(back)) if back.number < number => kept.len(),
            (Some(front), _) if front.number > number => 0,
            _ => kept.partition_point(|kept| kept.number < number),
        };
        kept.insert(at, Numbered { number, item });
        self.history_len += 1;
    }

    /// Up to `most` live samples of one lane, in time order. They count as sent, and as unproven.
    pub(crate) fn take_live(&mut self, most: usize) -> Option<(usize, Vec<T>)> {
        let lane = self.live.front()?.0;
        let of_lane = self.live.iter().take(most).take_while(|(of, _)| *of == lane).count();
        let taken = self.live.drain(..of_lane).collect::<Vec<_>>();
        let samples = taken.iter().map(|(_, kept)| kept.item.clone()).collect();
        self.unproven.extend(taken);
        Some((lane, samples))
    }

    /// Up to `most` kept samples of one lane that `is_ready`, in time order, with numbers below `barrier`: what is above
    /// has to wait for samples that are not in memory.
    pub(crate) fn take_history(
        &mut self,
        most: usize,
        barrier: u64,
        is_ready: impl Fn(usize) -> bool,
    ) -> Option<(usize, Vec<T>)> {
        let is_free = |kept: &VecDeque<Numbered<T>>| kept.front().is_some_and(|kept| kept.number < barrier);
        let (lane, kept) = self.history.iter_mut().find(|(lane, kept)| is_free(kept) && is_ready(**lane))?;
        let free = kept.partition_point(|kept| kept.number < barrier);
        let taken: Vec<_> = kept.drain(..free.min(most)).collect();
        self.history_len -= taken.len();
        let samples = taken.iter().map(|kept| kept.item.clone()).collect();
        self.unproven.extend(taken.into_iter().map(|kept| (*lane, kept)));
        Some((*lane, samples))
    }

    /// The last `count` samples taken could not be sent after all: they become history.
    pub(crate) fn take_back(&mut self, count: usize) {
        let back = self.unproven.split_off(self.unproven.len().saturating_sub(count));
        self.make_history(back);
    }

    /// What was not sent yet is told by a birth that comes first: it becomes history.
    pub(crate) fn live_is_history(&mut self) {
        let live = std::mem::take(&mut self.live);
        self.make_history(live);
    }

    /// Everything sent so far was followed by a question to the broker. `false` when there is nothing to ask about,
    /// or a question is under way.
    pub(crate) fn ask(&mut self) -> bool {
        if self.asked.is_some() || self.unproven.is_empty() {
            return false;
        }
        self.asked = Some(self.unproven.len());
        true
    }

    /// The broker answered the question. Tells how many samples it has read; with a moment, they are unsettled until then.
    pub(crate) fn proven(&mut self, until: Option<Instant>) -> usize {
        let proven = self.asked.take().unwrap_or(0).min(self.unproven.len());
        let items: Vec<_> = self.unproven.drain(..proven).collect();
        match until {
            Some(_) if items.is_empty() => {}
            Some(until) => self.unsettled.push_back(Unsettled { until, items, stored: Ranges::default() }),
            None => self.settle_items(items),
        }
        proven
    }

    fn settle_items(&mut self, items: Vec<(usize, Numbered<T>)>) {
        self.bytes -= items.iter().map(|(_, kept)| kept.item.bytes()).sum::<usize>();
        self.settled.extend(items.into_iter().map(|(_, kept)| kept.number));
    }

    /// What was proven long enough ago has arrived; all of it, without a moment. Tells how many samples that are.
    pub(crate) fn settle(&mut self, now: Option<Instant>) -> usize {
        let mut count = 0;
        while self.unsettled.front().is_some_and(|unsettled| now.is_none_or(|now| now >= unsettled.until)) {
            let Some(Unsettled { items, stored, .. }) = self.unsettled.pop_front() else { break };
            count += items.len() + usize::try_from(stored.len()).unwrap_or(usize::MAX);
            self.settle_items(items);
            self.settled.extend(stored.iter());
        }
        count
    }

    /// What is unsettled has not been heard: it has to be sent again. Gives the numbers of what is in the database only.
    pub(super) fn nobody_heard(&mut self) -> Ranges {
        let mut stored = Vec::new();
        for unsettled in std::mem::take(&mut self.unsettled) {
            stored.extend(unsettled.stored.iter());
            self.make_history(unsettled.items.into());
        }
        stored.sort_unstable();
        stored.into_iter().collect()
    }

    /// Takes the oldest of what is unsettled and in the database out of the memory, until no more than `bytes` are in it.
    pub(crate) fn shed_unsettled(&mut self, bytes: usize, is_stored: impl Fn(u64) -> bool) {
        for unsettled in &mut self.unsettled {
            if self.bytes <= bytes {
                return;
            }
            let (gone, kept): (Vec<_>, Vec<_>) =
                std::mem::take(&mut unsettled.items).into_iter().partition(|(_, kept)| is_stored(kept.number));
            unsettled.items = kept;
            self.bytes -= gone.iter().map(|(_, kept)| kept.item.bytes()).sum::<usize>();
            let mut numbers: Vec<_> = unsettled.stored.iter().chain(gone.iter().map(|(_, kept)| kept.number)).collect();
            numbers.sort_unstable();
            unsettled.stored = numbers.into_iter().collect();
        }
    }

    /// How many samples are with the broker, and may not have been heard.
    pub(crate) fn unsettled_len(&self) -> u64 {
        self.unsettled.iter().map(|unsettled| unsettled.items.len() as u64 + unsettled.stored.len()).sum()
    }

    /// The question never left, or another one is asked in its place.
    pub(crate) fn proven_nothing(&mut self) {
        self.asked = None;
    }

    /// The connection is gone, or nobody listened: what is not proven has to be sent again, in its place.
    pub(crate) fn nothing_arrived(&mut self) {
        self.asked = None;
        let again = self.unproven.drain(..).chain(self.live.drain(..)).collect();
        self.make_history(again);
    }

    fn make_history(&mut self, again: VecDeque<(usize, Numbered<T>)>) {
        // Backwards, so that each finds its place at once.
        let mut again = Vec::from(again);
        again.sort_by_key(|(_, kept)| std::cmp::Reverse(kept.number));
        for (lane, kept) in again {
            self.insert(lane, kept.number, kept.item);
        }
    }

    /// Takes samples out of the history; gives the numbers of those that were there.
    pub(super) fn take_out(&mut self, numbers: &Ranges) -> Ranges {
        let mut taken = Vec::new();
        for kept in self.history.values_mut() {
            // Backwards, so that places of what is to come stay right.
            for (first, last) in numbers.stretches().iter().rev() {
                let from = kept.partition_point(|kept| kept.number < *first);
                let to = kept.partition_point(|kept| kept.number <= *last);
                for kept in kept.drain(from..to) {
                    self.bytes -= kept.item.bytes();
                    taken.push(kept.number);
                }
            }
        }
        self.history_len -= taken.len();
        taken.sort_unstable();
        taken.into_iter().collect()
    }

    /// Gives up the oldest or the newest sample that was not sent; tells when it came.
    pub(crate) fn give_up_one(&mut self, is_oldest: bool) -> Option<Timestamp> {
        let waiting = self.history.values_mut().filter(|kept| !kept.is_empty());
        let of_history = if is_oldest {
            waiting.min_by_key(|kept| kept.front().map(|kept| kept.number))
        } else {
            waiting.max_by_key(|kept| kept.back().map(|kept| kept.number))
        };
        let end = |kept: &VecDeque<Numbered<T>>| {
            if is_oldest { kept.front().map(|kept| kept.number) } else { kept.back().map(|kept| kept.number) }
        };
        let live = if is_oldest { self.live.front() } else { self.live.back() }.map(|(_, kept)| kept.number);
        let gone = match (of_history, live) {
            (Some(history), live)
                if live.is_none_or(|live| end(history).is_some_and(|of| (of < live) == is_oldest)) =>
            {
                self.history_len -= 1;
                if is_oldest { history.pop_front()? } else { history.pop_back()? }
            }
            _ => if is_oldest { self.live.pop_front()? } else { self.live.pop_back()? }.1,
        };
        self.bytes -= gone.item.bytes();
        self.settled.push(gone.number);
        Some(gone.item.came())
    }

    /// Drops kept samples of points that are described no more. Tells when each of them came.
    pub(crate) fn keep_only(&mut self, is_known: impl Fn(&T) -> bool) -> Vec<Timestamp> {
        let (settled, bytes, mut gone) = (&mut self.settled, &mut self.bytes, Vec::new());
        let mut stays = |kept: &Numbered<T>| {
            let is_known = is_known(&kept.item);
            if !is_known {
                settled.push(kept.number);
                *bytes -= kept.item.bytes();
                gone.push(kept.item.came());
            }
            is_known
        };
        self.live.retain(|(_, kept)| stays(kept));
        self.history.values_mut().for_each(|of_lane| of_lane.retain(&mut stays));
        self.history_len = self.history.values().map(VecDeque::len).sum();
        gone
    }

    /// How many samples that wait are of points that are described no more.
    pub(crate) fn count_unknown(&self, is_known: impl Fn(&T) -> bool) -> u64 {
        let live = self.live.iter().map(|(_, kept)| kept);
        let waiting = self.history.values().flatten().chain(live);
        waiting.filter(|kept| !is_known(&kept.item)).count() as u64
    }

    /// The bytes of everything in memory.
    pub(crate) const fn bytes(&self) -> usize {
        self.bytes
    }

    /// How many samples in memory are not proven to be with the broker.
    pub(crate) fn len(&self) -> usize {
        self.live.len() + self.history_len + self.unproven.len()
    }

    /// How many of them wait for their turn as history.
    pub(crate) const fn history_len(&self) -> usize {
        self.history_len
    }

    /// The numbers of samples that are proven or given up since the last call.
    pub(crate) fn take_settled(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.settled)
    }

    /// When the oldest sample in memory that is not proven came.
    pub(crate) fn oldest(&self) -> Option<Timestamp> {
        let history = self.history.values().filter_map(|kept| kept.front());
        let others = self.unproven.front().into_iter().chain(self.live.front()).map(|(_, kept)| kept);
        history.chain(others).map(|kept| kept.item.came()).min()
    }
}

#[cfg(test)]
mod tests;
