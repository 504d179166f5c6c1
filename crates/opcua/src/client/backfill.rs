use super::error::RequestError;
use super::watcher::{ItemPlace, is_too_much};
use crate::service::{
    HistoryData, HistoryReadRequest, HistoryReadResult, HistoryReadValueId, ReadRawModifiedDetails, Request, Response,
    TimestampsToReturn,
};
use crate::structure::Structure;
use crate::types::{ByteString, DataValue, DateTime, NodeId, StatusCode};
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::time::{Duration, Instant};

/// Reads back from a server's history what nobody was told, without I/O: each value once, those of an item in their order.
///
/// Of each item it is known what was told last before the gap, and first after it. Reading begins with the time of the one, goes on
/// through pieces and sessions, and ends when the history has reached the other, however late it is written.
///
/// After any call, poll [`Backfill::poll_request`], [`Backfill::poll_event`] and [`Backfill::poll_timeout`].
///
/// Source: OPC 10000-11, section 6.5.3.
#[derive(Debug)]
pub struct Backfill {
    config: BackfillConfig,
    /// So many nodes are asked for at a time.
    at_once: usize,
    waiting: VecDeque<Missing>,
    /// What is asked for, by the number of the request.
    asked: HashMap<u32, Vec<Missing>>,
    last_ask: u32,
    is_active: bool,
    /// Groups that nobody follows any more.
    gone: BTreeSet<usize>,
    events: VecDeque<BackfillEvent>,
}

/// How history is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BackfillConfig {
    /// So many values of a node at a time.
    pub values: u32,
    /// So many nodes at a time, where the server takes as many.
    pub at_once: usize,
    /// So long an answer may take.
    pub timeout: Duration,
    /// So long after it had not all yet, a history is asked again.
    pub pause: Duration,
    /// So often it is asked again without anything new.
    pub tries: u32,
}

/// A gap of an item.
#[derive(Debug, Clone, PartialEq)]
pub struct MissedValues {
    /// The item.
    pub item: ItemPlace,
    /// Its node.
    pub node: NodeId,
    /// Which elements of an array; all where it is not told.
    pub index_range: Option<String>,
    /// What was told last before it, where there was any with this very time.
    pub before: Vec<DataValue>,
    /// The time of that.
    pub from: DateTime,
    /// What was told first after it.
    pub after: DataValue,
}

/// What comes of reading.
#[derive(Debug, Clone, PartialEq)]
pub enum BackfillEvent {
    /// Values of an item, in their order.
    Values(ItemPlace, Vec<DataValue>),
    /// All that the history has of the gap was told, and it reaches to its end.
    Filled(ItemPlace),
    /// What is still missing, from a moment to another, is not to be had, and why.
    Missing(ItemPlace, StatusCode, (DateTime, DateTime)),
}

#[derive(Debug)]
struct Missing {
    gap: MissedValues,
    /// Up to there it has to be read.
    reach: DateTime,
    continuation: ByteString,
    /// Asked again without anything new.
    tries: u32,
    /// Not before then.
    after: Option<Instant>,
}

impl Backfill {
    /// Nothing to be read yet.
    #[must_use]
    pub fn new(config: BackfillConfig) -> Self {
        Self {
            config,
            at_once: config.at_once.max(1),
            waiting: VecDeque::new(),
            asked: HashMap::new(),
            last_ask: 0,
            is_active: false,
            gone: BTreeSet::new(),
            events: VecDeque::new(),
        }
    }

    /// Reads the values of a gap. One at whose end stands what was told before it is none.
    pub fn add(&mut self, gap: MissedValues) {
        let reach = gap.after.time();
        if reach <= gap.from || gap.before.iter().any(|before| before.is_same(&gap.after)) {
            return self.events.push_back(BackfillEvent::Filled(gap.item));
        }
        self.waiting.push_back(Missing { gap, reach, continuation: ByteString::default(), tries: 0, after: None });
    }

    /// Reads nothing more of a group of items.
    pub fn remove(&mut self, group: usize) {
        self.gone.insert(group);
        self.waiting.retain(|missing| missing.gap.item.0 != group);
    }

    /// How many gaps are still read.
    #[must_use]
    pub fn len(&self) -> usize {
        self.waiting.len() + self.asked.values().map(Vec::len).sum::<usize>()
    }

    /// Whether there is nothing to be read.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// A session is active. Reading goes on behind what was told.
    pub fn activated(&mut self) {
        self.is_active = true;
        let asked = std::mem::take(&mut self.asked).into_values().flatten();
        self.waiting.extend(asked);
        // Places to go on from are those of a session.
        self.waiting.iter_mut().for_each(|missing| missing.continuation = ByteString::default());
    }

    /// The session is not active any more.
    pub const fn inactive(&mut self) {
        self.is_active = false;
    }

    /// What to send next, under a number for its answer, and how long that may take. One request at a time: live values go first.
    #[must_use]
    pub fn poll_request(&mut self, now: Instant) -> Option<(u32, Request, Duration)> {
        if !self.is_active || !self.asked.is_empty() {
            return None;
        }
        // What was asked for when its group went comes back here once more.
        let gone = &self.gone;
        self.waiting.retain(|missing| !gone.contains(&missing.gap.item.0));
        // Those of one request have one span.
        let is_due = |missing: &Missing| missing.after.is_none_or(|after| now >= after);
        let first = self.waiting.iter().find(|missing| is_due(missing))?;
        let span = (first.gap.from, first.reach);
        let (mut chosen, mut rest) = (Vec::new(), VecDeque::new());
        for missing in std::mem::take(&mut self.waiting) {
            let fits = (missing.gap.from, missing.reach) == span && chosen.len() < self.at_once;
            if fits && is_due(&missing) { chosen.push(missing) } else { rest.push_back(missing) }
        }
        self.waiting = rest;
        let details = ReadRawModifiedDetails {
            is_read_modified: false,
            start_time: span.0,
            // The end itself is wanted: that it is there tells that nothing before it is still to be written.
            end_time: DateTime(span.1.0.saturating_add(1)),
            num_values_per_node: self.config.values,
            return_bounds: false,
        };
        let node = |missing: &Missing| HistoryReadValueId {
            node_id: missing.gap.node.clone(),
            index_range: missing.gap.index_range.clone(),
            continuation_point: missing.continuation.clone(),
            ..HistoryReadValueId::default()
        };
        let request = HistoryReadRequest {
            history_read_details: details.to_object(),
            timestamps_to_return: TimestampsToReturn::Both,
            nodes_to_read: chosen.iter().map(node).collect(),
            ..HistoryReadRequest::default()
        };
        self.last_ask = self.last_ask.wrapping_add(1);
        self.asked.insert(self.last_ask, chosen);
        Some((self.last_ask, request.into(), self.config.timeout))
    }

    /// An answer came, or none.
    pub fn handle_answer(&mut self, now: Instant, number: u32, answer: Result<Response, RequestError>) {
        let Some(asked) = self.asked.remove(&number) else { return };
        match answer {
            Ok(Response::HistoryRead(read)) if read.results.len() == asked.len() => {
                for (missing, result) in asked.into_iter().zip(read.results) {
                    self.read(now, missing, result);
                }
            }
            Err(error) if is_too_much(&error) && asked.len() > 1 => {
                self.at_once = (asked.len() / 2).max(1);
                asked.into_iter().rev().for_each(|missing| self.waiting.push_front(missing));
            }
            // It goes on with the next session, and counts as no try.
            Err(error) if error.is_of_session() => {
                asked.into_iter().rev().for_each(|missing| self.waiting.push_front(missing));
                self.is_active = false;
            }
            Err(RequestError::Fault(status)) => asked.into_iter().for_each(|missing| self.give_up(missing, status)),
            _ => asked.into_iter().for_each(|missing| self.again(now, missing, StatusCode::BAD_TIMEOUT)),
        }
    }

    fn give_up(&mut self, missing: Missing, status: StatusCode) {
        let span = (missing.gap.from, missing.reach);
        self.events.push_back(BackfillEvent::Missing(missing.gap.item, status, span));
    }

    /// Asks again after a while, unless that brought nothing too often.
    fn again(&mut self, now: Instant, mut missing: Missing, status: StatusCode) {
        missing.continuation = ByteString::default();
        missing.tries += 1;
        if missing.tries > self.config.tries {
            return self.give_up(missing, status);
        }
        missing.after = Some(now + self.config.pause);
        self.waiting.push_back(missing);
    }

    fn read(&mut self, now: Instant, mut missing: Missing, result: HistoryReadResult) {
        let status = result.status_code.code();
        match status {
            // They are the server's, and used up or too few: from behind what was told.
            StatusCode::BAD_CONTINUATION_POINT_INVALID => return self.again(now, missing, status),
            StatusCode::BAD_NO_CONTINUATION_POINTS => {
                self.at_once = (self.at_once / 2).max(1);
                return self.again(now, missing, status);
            }
            status if status.is_bad() => return self.give_up(missing, status),
            _ => {}
        }
        let values = match HistoryData::from_object(&result.history_data) {
            Some(Ok(data)) => data.data_values,
            _ => Vec::new(),
        };
        let is_at_end = values.iter().any(|value| value.time() >= missing.reach);
        let new: Vec<_> = values.into_iter().filter_map(|value| missing.take(value)).collect();
        if !new.is_empty() {
            missing.tries = 0;
            self.events.push_back(BackfillEvent::Values(missing.gap.item, new));
        }
        if !result.continuation_point.as_bytes().is_empty() {
            missing.continuation = result.continuation_point;
            self.waiting.push_front(missing);
        } else if is_at_end {
            self.events.push_back(BackfillEvent::Filled(missing.gap.item));
        } else {
            self.again(now, missing, StatusCode::GOOD_NO_DATA);
        }
    }

    /// When to poll for requests, if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let is_free = self.is_active && self.asked.is_empty();
        self.waiting.iter().filter(|_| is_free).filter_map(|missing| missing.after).min()
    }

    /// What comes of it, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<BackfillEvent> {
        self.events.pop_front()
    }
}

impl Missing {
    /// A value that was not told yet; it is the last one then.
    fn take(&mut self, value: DataValue) -> Option<DataValue> {
        let at = value.time();
        let is_told = self.gap.before.iter().any(|told| told.is_same(&value));
        // What is told live after the gap is not told from history, too.
        if at < self.gap.from || at > self.reach || is_told || self.gap.after.is_same(&value) {
            return None;
        }
        if at > self.gap.from {
            (self.gap.from, self.gap.before) = (at, Vec::new());
        }
        self.gap.before.push(value.clone());
        Some(value)
    }
}
