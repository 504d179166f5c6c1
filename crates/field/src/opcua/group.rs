use super::part::Part;
use interlex_opcua::{WatchedGroup, WatchedItem};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Points of a device that are told in one rhythm.
#[derive(Debug)]
pub(super) struct Group {
    /// The device.
    pub(super) part: u32,
    /// The places of its items there.
    pub(super) items: Vec<usize>,
    /// What is known of its points is confirmed so often, as long as it lives.
    confirm_every: Duration,
    pub(super) confirm_at: Instant,
    /// Something came from it over this connection.
    pub(super) is_heard: bool,
    /// Its subscription was made over this connection: its items tell what they are.
    pub(super) is_made: bool,
    /// All its items are watched.
    pub(super) is_ready: bool,
    /// Of each item, whether its next value is the first one.
    pub(super) is_first: Vec<bool>,
    /// So often it fell silent since something came.
    pub(super) silences: u8,
    /// The time between two messages, as the server has it.
    pub(super) interval: Duration,
    /// The server's number for its subscription.
    pub(super) subscription: Option<u32>,
}

/// Values of so long wait at the server while the connection is away, so many at the most.
const KEPT: Duration = Duration::from_secs(60);
const QUEUE: (u32, u32) = (10, 1000);
/// So long is the longest time between two messages.
const LONGEST_INTERVAL: Duration = Duration::from_secs(1);
/// A thing is confirmed a few times before it would be stale.
const CONFIRMATIONS: u32 = 3;
/// No point is stale sooner than after a second.
const SOONEST_STALE: Duration = Duration::from_secs(1);

/// The groups of a device, and how they are watched.
pub(super) fn groups_of(
    part: &Part,
    is_watched: impl Fn(usize) -> bool,
    patience: &Patience,
    now: Instant,
) -> Vec<(Group, WatchedGroup)> {
    // What is looked at seldom is told soon all the same: one subscription does for all of it.
    let mut rhythms: BTreeMap<Duration, Vec<usize>> = BTreeMap::new();
    for (place, item) in part.items.iter().enumerate().filter(|(place, item)| item.node.is_some() && is_watched(*place))
    {
        rhythms.entry(item.period.min(LONGEST_INTERVAL)).or_default().push(place);
    }
    let group = |(interval, items): (Duration, Vec<usize>)| {
        let periods = items.iter().filter_map(|place| part.items.get(*place)).map(|item| item.period);
        let stale = (periods.min().unwrap_or(interval) * patience.stale_periods).max(SOONEST_STALE);
        let confirm_every = stale / CONFIRMATIONS;
        let queue_size = |period: Duration| {
            let kept = u32::try_from(KEPT.as_nanos().div_ceil(period.as_nanos().max(1))).unwrap_or(u32::MAX);
            kept.clamp(QUEUE.0, QUEUE.1)
        };
        let watched = items.iter().filter_map(|place| part.items.get(*place)).filter_map(|item| {
            let (sampling, queue_size) = (item.period, queue_size(item.period));
            Some(WatchedItem { what: item.what()?, sampling, queue_size, filter: item.filter.clone() })
        });
        let keep_alive = patience.keep_alive.min(confirm_every);
        let watched = WatchedGroup { interval, keep_alive, items: watched.collect() };
        let group = Group {
            part: part.id,
            is_first: vec![true; items.len()],
            items,
            confirm_every,
            confirm_at: now + confirm_every,
            is_heard: false,
            is_made: false,
            is_ready: false,
            silences: 0,
            interval,
            subscription: None,
        };
        (group, watched)
    };
    rhythms.into_iter().map(group).collect()
}

/// How long is waited for a word.
pub(super) struct Patience {
    pub(super) keep_alive: Duration,
    pub(super) stale_periods: u32,
}

impl Group {
    /// Something came: it lives.
    pub(super) const fn hear(&mut self) {
        (self.is_heard, self.silences) = (true, 0);
    }

    /// Whether what is known of its points is to be confirmed now.
    pub(super) fn is_to_be_confirmed(&mut self, now: Instant) -> bool {
        if now < self.confirm_at {
            return false;
        }
        self.confirm_at = now + self.confirm_every;
        self.is_heard && self.silences == 0
    }

    /// The connection is gone.
    pub(super) const fn lost(&mut self) {
        (self.is_heard, self.is_made, self.silences) = (false, false, 0);
    }
}
