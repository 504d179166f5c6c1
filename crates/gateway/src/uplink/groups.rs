//! Which points go into which message, and when it is due.

use crate::points::PointTable;
use interlex_core::description::{MessagePer, Selection};
use interlex_core::{PointIndex, Report, Sample};
use std::collections::{BTreeMap, VecDeque};
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
    samples: VecDeque<Sample>,
    /// When changes are due.
    change_at: Option<Instant>,
    /// When the period is over.
    period_at: Option<Instant>,
}

/// So many samples a message can have; with more, the oldest are in none.
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
        .filter(|info| selection.is_none_or(|selection| selection.takes(&info.device, info.settings())));
    let mut found: BTreeMap<(usize, String), Group> = BTreeMap::new();
    let mut put = |key: (usize, String), device: Option<&str>, label: &str, point: PointIndex| {
        let group = found.entry(key).or_insert_with(|| Group {
            device: device.map(str::to_owned),
            label: label.to_owned(),
            points: Vec::new(),
            samples: VecDeque::new(),
            change_at: None,
            period_at: period(send).map(|period| now + period),
        });
        group.points.push(point);
    };
    for info in chosen {
        match per {
            MessagePer::Gateway => put((0, String::new()), None, "", info.index),
            MessagePer::Device => put((info.device_slot, String::new()), Some(&info.device), "", info.index),
            MessagePer::Label => {
                info.settings().labels().for_each(|label| put((0, label.to_owned()), None, label, info.index));
            }
            MessagePer::Point => put((info.index.position(), String::new()), Some(&info.device), "", info.index),
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

    /// Takes a reported sample; changes are due then, unless some are already.
    pub(super) fn take(&mut self, sample: &Sample, send: Report, due: Instant) {
        if self.samples.len() == SAMPLES {
            self.samples.pop_front();
        }
        self.samples.push_back(sample.clone());
        if matches!(send, Report::Change | Report::ChangeOrEvery(_)) {
            self.change_at.get_or_insert(due);
        }
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
        std::mem::take(&mut self.samples).into()
    }
}
