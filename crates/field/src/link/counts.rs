use super::histogram::{Histogram, HistogramView};
use interlex_core::Reason;
use serde::Serialize;
use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

/// What was counted of one device, or of a whole link.
#[derive(Debug, Clone, Default)]
pub(super) struct Counts {
    requests: u64,
    answers: u64,
    timeouts: u64,
    malformed: u64,
    garbled: u64,
    repeated_events: u64,
    untimed_events: u64,
    refusals: BTreeMap<Reason, u64>,
    answer_times: Histogram,
}

/// What became of one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Counted {
    Answer,
    /// It was refused, and why.
    Refusal(Reason),
    Timeout,
    Garbled,
    Malformed,
}

impl Counts {
    pub(super) fn add(&mut self, what: Counted, took: Duration) {
        self.requests += 1;
        match what {
            Counted::Answer => self.answers += 1,
            Counted::Refusal(why) => *self.refusals.entry(why).or_default() += 1,
            Counted::Timeout => self.timeouts += 1,
            Counted::Garbled => self.garbled += 1,
            Counted::Malformed => self.malformed += 1,
        }
        if !matches!(what, Counted::Timeout | Counted::Garbled) {
            self.answer_times.add(took);
        }
    }

    /// Events that came once more and were known again, and events that could not be, since they had no time.
    fn add_events(&mut self, repeated: u64, untimed: u64) {
        self.repeated_events += repeated;
        self.untimed_events += untimed;
    }

    fn merge(&mut self, other: &Self) {
        self.requests += other.requests;
        self.answers += other.answers;
        self.timeouts += other.timeouts;
        self.malformed += other.malformed;
        self.garbled += other.garbled;
        self.add_events(other.repeated_events, other.untimed_events);
        for (why, count) in &other.refusals {
            *self.refusals.entry(*why).or_default() += count;
        }
        self.answer_times.merge(&other.answer_times);
    }

    pub(super) fn view(&self, words: fn(Reason) -> String) -> CountsView {
        let refusals = self.refusals.iter();
        CountsView {
            requests: self.requests,
            answers: self.answers,
            timeouts: self.timeouts,
            malformed: self.malformed,
            garbled: self.garbled,
            repeated_events: self.repeated_events,
            untimed_events: self.untimed_events,
            refusals: refusals.map(|(why, count)| RefusalCount { meaning: words(*why), count: *count }).collect(),
            answer_times: self.answer_times.view(),
        }
    }
}

/// How often a device refused for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct RefusalCount {
    /// What it means, in the words of the protocol.
    pub meaning: String,
    /// How often.
    pub count: u64,
}

/// What was counted of a device or a link in a span of time.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct CountsView {
    /// Requests that something became of.
    pub requests: u64,
    /// Answers with data.
    pub answers: u64,
    /// Requests without an answer in time.
    pub timeouts: u64,
    /// Answers that broke the protocol.
    pub malformed: u64,
    /// Answers that came cut, or whose CRC or LRC was wrong.
    pub garbled: u64,
    /// Events that the device told once more, and that were known again.
    pub repeated_events: u64,
    /// Events without a time: those that the device told once more are not known again, and came twice.
    pub untimed_events: u64,
    /// Refusals, by their reason.
    pub refusals: Vec<RefusalCount>,
    /// How long answers took, refusals included.
    pub answer_times: HistogramView,
}

/// What was counted of one device.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct DeviceCounts {
    /// Its name.
    pub name: String,
    /// What was counted since the link runs, or since its counters were reset.
    #[serde(flatten)]
    pub counts: CountsView,
    /// What was counted in the last minutes.
    pub lately: CountsView,
}

/// How many minutes are shown beside all that was counted.
pub(super) const LATELY_MINUTES: u64 = 5;

/// Counts, all together and by the minute.
#[derive(Debug, Clone, Default)]
pub(super) struct Tally {
    pub(super) all: Counts,
    /// The newest minutes in which something was counted, with their numbers.
    minutes: VecDeque<(u64, Counts)>,
}

impl Tally {
    pub(super) fn add(&mut self, minute: u64, what: Counted, took: Duration) {
        self.both(minute, |counts| counts.add(what, took));
    }

    pub(super) fn add_events(&mut self, minute: u64, repeated: u64, untimed: u64) {
        self.both(minute, |counts| counts.add_events(repeated, untimed));
    }

    /// Counts in all, and in a minute.
    fn both(&mut self, minute: u64, count: impl Fn(&mut Counts)) {
        count(&mut self.all);
        match self.minutes.back_mut().filter(|(newest, _)| *newest == minute) {
            Some((_, counts)) => count(counts),
            None => {
                let mut counts = Counts::default();
                count(&mut counts);
                self.minutes.push_back((minute, counts));
                self.minutes.retain(|(number, _)| number + LATELY_MINUTES > minute);
            }
        }
    }

    pub(super) fn lately(&self, minute: u64, words: fn(Reason) -> String) -> CountsView {
        let mut sum = Counts::default();
        let newest = self.minutes.iter().filter(|(number, _)| number + LATELY_MINUTES > minute);
        newest.for_each(|(_, counts)| sum.merge(counts));
        sum.view(words)
    }
}
