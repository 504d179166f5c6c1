//! Which points go into which message, and when it is due.

use interlex_core::description::{MessagePer, Selection};
use interlex_core::{PointIndex, PointTable, Report, Sample};
use std::collections::BTreeMap;
use std::time::Duration;
use tokio::time::Instant;

/// The points of one message.
#[derive(Debug)]
pub(crate) struct Group {
    /// The device that the message is about, where it is about one.
    pub(super) device: Option<String>,
    /// The label that it is about, where it is about one.
    pub(super) label: String,
    /// In the order of the description.
    pub(super) points: Vec<PointIndex>,
    /// What was reported since the last message.
    samples: Vec<Sample>,
    /// When the oldest of them came that the journal does not have.
    unkept_since: Option<Instant>,
    /// The number by which the journal knows what is gathered.
    pub(super) kept: Option<u64>,
    /// When changes are due.
    change_at: Option<Instant>,
    /// When the period is over.
    period_at: Option<Instant>,
}

/// So many samples a message can have; when they are there, it is made before its time.
const SAMPLES: usize = 10_000;

/// Makes the groups of a description.
pub(crate) fn groups(
    points: &PointTable,
    per: MessagePer,
    selection: Option<&Selection>,
    send: Report,
    now: Instant,
) -> Vec<Group> {
    let chosen = points
        .all()
        .iter()
        .filter(|info| selection.is_none_or(|selection| selection.takes(info.device(), info.settings())));
    let mut found: BTreeMap<(usize, String), Group> = BTreeMap::new();
    let mut put = |key: (usize, String), device: Option<&str>, label: &str, point: PointIndex| {
        let group = found.entry(key).or_insert_with(|| Group {
            device: device.map(str::to_owned),
            label: label.to_owned(),
            points: Vec::new(),
            samples: Vec::new(),
            unkept_since: None,
            kept: None,
            change_at: None,
            period_at: period(send).map(|period| now + period),
        });
        group.points.push(point);
    };
    for info in chosen {
        match per {
            MessagePer::Gateway => put((0, String::new()), None, "", info.index),
            MessagePer::Device => put((info.device_slot(), String::new()), Some(info.device()), "", info.index),
            MessagePer::Label => {
                info.settings().labels().for_each(|label| put((0, label.to_owned()), None, label, info.index));
            }
            MessagePer::Point => put((info.index.position(), String::new()), Some(info.device()), "", info.index),
        }
    }
    found.into_values().collect()
}

fn period(send: Report) -> Option<Duration> {
    match send {
        Report::Every(span) | Report::ChangeOrEvery(span) => Some(span.into()),
        Report::Change | Report::Never => None,
    }
}

impl Group {
    /// Whether something was reported that is in no message yet.
    pub(super) fn has_samples(&self) -> bool {
        !self.samples.is_empty()
    }

    /// Takes a reported sample; changes are due then, unless some are already. Tells whether it takes no more.
    pub(super) fn take(&mut self, sample: &Sample, send: Report, due: Instant) -> bool {
        self.samples.push(sample.clone());
        self.unkept_since.get_or_insert_with(Instant::now);
        if matches!(send, Report::Change | Report::ChangeOrEvery(_)) {
            self.change_at.get_or_insert(due);
        }
        self.is_full()
    }

    /// Whether its message has to be made before its time.
    pub(super) fn is_full(&self) -> bool {
        self.samples.len() >= SAMPLES
    }

    /// What is gathered, where some of it is for so long already and not in the journal; from now on it counts as there.
    pub(super) fn unkept_since(&mut self, now: Instant, lag: Duration) -> Option<Vec<Sample>> {
        self.unkept_since.filter(|since| now.saturating_duration_since(*since) >= lag)?;
        self.unkept_since = None;
        Some(self.samples.clone())
    }

    pub(super) fn is_due(&self, now: Instant) -> bool {
        self.change_at.into_iter().chain(self.period_at).any(|at| at <= now)
    }

    /// A message is made now: gives what was reported since the one before.
    pub(super) fn begin_message(&mut self, send: Report, now: Instant) -> Vec<Sample> {
        self.change_at = None;
        if let (Some(at), Some(period)) = (self.period_at, period(send)) {
            // In step, unless a step was missed; a message on change begins the period anew.
            self.period_at = Some(if at <= now && at + period > now { at + period } else { now + period });
        }
        self.unkept_since = None;
        std::mem::take(&mut self.samples)
    }
}
