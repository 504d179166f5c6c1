use super::backfill::{Backfill, BackfillConfig, BackfillEvent, MissedValues};
use super::error::RequestError;
use super::watcher::{ItemPlace, WatchConfig, WatchEvent, WatchedGroup, Watcher};
use crate::service::{Request, Response};
use crate::types::DataValue;
use std::collections::HashMap;
use std::time::{Duration, Instant};

/// Follows items: live by a [`Watcher`], and from history by a [`Backfill`] where something was missed, without I/O.
///
/// What was missed lies between two values of an item with a gap between them: since a subscription was lost, or its queue was too
/// short. The same value, time and status again is not told again.
///
/// After any call, poll [`Follower::poll_request`], [`Follower::poll_event`] and [`Follower::poll_timeout`].
#[derive(Debug)]
pub struct Follower {
    watcher: Watcher,
    backfill: Backfill,
    groups: Vec<WatchedGroup>,
    items: HashMap<ItemPlace, Followed>,
    asked: HashMap<u32, Ask>,
    last_ask: u32,
    again: Option<(usize, Vec<(usize, DataValue)>)>,
}

/// What is known of an item.
#[derive(Debug, Clone, Default)]
struct Followed {
    /// What was told last, with what was told of the same time before it.
    last: Vec<DataValue>,
    /// Something may have been missed since.
    has_gap: bool,
}

#[derive(Debug, Clone, Copy)]
enum Ask {
    Watch(u32),
    Backfill(u32),
}

/// What comes of following.
#[derive(Debug, Clone, PartialEq)]
pub enum FollowEvent {
    /// What the watcher tells: values live, without those that were told before.
    Live(WatchEvent),
    /// Values of a group that were told before, by the places of their items: they still hold.
    Again(usize, Vec<(usize, DataValue)>),
    /// What history tells of a gap.
    History(BackfillEvent),
}

impl Follower {
    /// Follows groups of items. Of some it may be known what was told last, by a run before; subscriptions of such a run are ended.
    #[must_use]
    pub fn new(
        (watch, backfill): (WatchConfig, BackfillConfig),
        groups: Vec<WatchedGroup>,
        told: impl IntoIterator<Item = (ItemPlace, DataValue)>,
        orphans: Vec<u32>,
    ) -> Self {
        let told = told.into_iter().map(|(item, value)| (item, Followed { last: vec![value], has_gap: true }));
        Self {
            watcher: Watcher::new(watch, groups.clone(), orphans),
            backfill: Backfill::new(backfill),
            groups,
            items: told.collect(),
            asked: HashMap::new(),
            last_ask: 0,
            again: None,
        }
    }

    /// Follows another group, of whose items it may be known what was told last; tells its place.
    pub fn add(&mut self, group: WatchedGroup, told: impl IntoIterator<Item = (usize, DataValue)>) -> usize {
        let place = self.watcher.add(group.clone());
        self.groups.push(group);
        let told = told.into_iter().map(|(item, value)| ((place, item), Followed { last: vec![value], has_gap: true }));
        self.items.extend(told);
        place
    }

    /// Subscriptions of a run before, which nobody listens to any more: they are taken over, and ended.
    pub fn adopt(&mut self, orphans: Vec<u32>) {
        self.watcher.adopt(orphans);
    }

    /// Follows a group no more.
    pub fn remove(&mut self, place: usize) {
        self.watcher.remove(place);
        self.backfill.remove(place);
        self.items.retain(|(of, _), _| *of != place);
        self.groups.get_mut(place).into_iter().for_each(|group| group.items = Vec::new());
    }

    /// Follows a group by a new subscription: the one that it has tells nothing.
    pub fn renew(&mut self, place: usize) {
        self.watcher.renew(place);
    }

    /// A session is active: a new one, or the one of before over another connection.
    pub fn activated(&mut self, now: Instant, is_new: bool) {
        self.asked.clear();
        self.watcher.activated(now, is_new);
        self.backfill.activated();
    }

    /// The session is not active any more.
    pub const fn inactive(&mut self) {
        self.watcher.inactive();
        self.backfill.inactive();
    }

    /// The values of a message are safe: the server need not keep them.
    pub fn taken(&mut self, subscription: u32, number: u32) {
        self.watcher.taken(subscription, number);
    }

    /// What was told last of an item.
    #[must_use]
    pub fn last(&self, item: ItemPlace) -> Option<&DataValue> {
        self.items.get(&item)?.last.last()
    }

    /// How many gaps are still read from history.
    #[must_use]
    pub fn gaps(&self) -> usize {
        self.backfill.len()
    }

    /// What to send next, under a number for its answer, and how long that may take. Live values never wait for history.
    #[must_use]
    pub fn poll_request(&mut self, now: Instant) -> Option<(u32, Request, Duration)> {
        let (ask, request, timeout) = match self.watcher.poll_request(now) {
            Some((number, request, timeout)) => (Ask::Watch(number), request, timeout),
            None => {
                let (number, request, timeout) = self.backfill.poll_request(now)?;
                (Ask::Backfill(number), request, timeout)
            }
        };
        self.last_ask = self.last_ask.wrapping_add(1);
        self.asked.insert(self.last_ask, ask);
        Some((self.last_ask, request, timeout))
    }

    /// An answer came, or none.
    pub fn handle_answer(&mut self, now: Instant, number: u32, answer: Result<Response, RequestError>) {
        match self.asked.remove(&number) {
            Some(Ask::Watch(number)) => self.watcher.handle_answer(now, number, answer),
            Some(Ask::Backfill(number)) => self.backfill.handle_answer(now, number, answer),
            None => {}
        }
    }

    /// When to call [`Follower::handle_timeout`], and to poll for requests, if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.watcher.poll_timeout().into_iter().chain(self.backfill.poll_timeout()).min()
    }

    /// The moment of [`Follower::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.watcher.handle_timeout(now);
    }

    /// What comes of it, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<FollowEvent> {
        if let Some((group, values)) = self.again.take() {
            return Some(FollowEvent::Again(group, values));
        }
        if let Some(event) = self.backfill.poll_event() {
            return Some(FollowEvent::History(event));
        }
        let event = match self.watcher.poll_event()? {
            WatchEvent::Values { group, subscription, number, values } => {
                let (values, again): (Vec<_>, Vec<_>) =
                    values.into_iter().partition(|(item, value)| self.told((group, *item), value));
                self.again = Some((group, again)).filter(|(_, again)| !again.is_empty());
                WatchEvent::Values { group, subscription, number, values }
            }
            WatchEvent::Gap(group) => {
                let of_group = self.items.iter_mut().filter(|((of, _), _)| *of == group);
                of_group.for_each(|(_, item)| item.has_gap = true);
                WatchEvent::Gap(group)
            }
            event => event,
        };
        Some(FollowEvent::Live(event))
    }

    /// Notes a value, and what was missed before it; tells whether it is a new one.
    fn told(&mut self, place: ItemPlace, value: &DataValue) -> bool {
        let item = self.items.entry(place).or_default();
        let has_gap = std::mem::take(&mut item.has_gap) || value.status().has_overflowed();
        let is_told = item.last.iter().any(|last| last.is_same(value));
        if let Some(from) = item.last.last().map(DataValue::time).filter(|_| has_gap && !is_told)
            && let Some(wanted) = self.groups.get(place.0).and_then(|group| group.items.get(place.1))
        {
            self.backfill.add(MissedValues {
                item: place,
                node: wanted.what.node_id.clone(),
                index_range: wanted.what.index_range.clone(),
                before: item.last.clone(),
                from,
                after: value.clone(),
            });
        }
        if is_told {
            return false;
        }
        if item.last.last().is_none_or(|last| last.time() != value.time()) {
            item.last.clear();
        }
        item.last.push(value.clone());
        true
    }
}
