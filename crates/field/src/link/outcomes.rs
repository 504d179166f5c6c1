use super::command::{Answer, CommandId};
use super::counts::Counted;
use super::told::ToldEvents;
use super::traffic::Traffic;
use interlex_core::{DataType, PointIndex, RawSample, Reason, Semantics};
use std::sync::Arc;
use std::time::Duration;

/// What a driver has to tell, in its order. The floor empties it after every wake.
#[derive(Debug, Default)]
pub(crate) struct Outcomes {
    list: Vec<Outcome>,
    /// The samples of all [`Outcome::Samples`], one batch behind the other.
    pub(crate) samples: Vec<RawSample>,
    /// Whether a device answered something since the connection came up.
    pub(crate) is_alive: bool,
}

/// One thing that a driver tells.
#[derive(Debug)]
pub(crate) enum Outcome {
    /// So many samples of one moment.
    Samples(usize),
    /// Changes that belong into the sequence of events; their samples were told before.
    Told(ToldEvents),
    /// Of a device, events that came once more and were known again, and events without a time.
    Events { place: usize, repeated: u64, untimed: u64 },
    /// What is known of these points still holds, though nothing new was said.
    Confirmed(Vec<PointIndex>),
    /// A device, by its place on the link.
    Device(usize, DeviceEvent),
    /// A request is done: of which devices it was, what became of it, and how long it took.
    Done { devices: Arc<[usize]>, counted: Counted, took: Duration },
    /// A poll was sent, so late.
    Sent { lateness: Duration },
    /// A poll of a period brought data, so long after the one before.
    Polled { period: Duration, interval: Option<Duration>, lateness: Duration },
    /// What went over the link since the last time.
    Traffic(Traffic),
    /// A command is done.
    Answered(CommandId, Answer),
}

/// What a driver says of a device.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum DeviceEvent {
    /// It answers, and all that is asked of it was tried.
    Up,
    /// It does not answer, and why: its points are bad for that reason.
    Silent(Reason, String),
    /// Something went wrong with it.
    Error(String),
    /// It represents points that are described as `auto` by these types. Told before anything is told of their values.
    Types(Vec<(PointIndex, DataType)>),
    /// It says this of points that leave something to it. Told before anything is told of their values.
    Semantics(Vec<(PointIndex, Semantics)>),
    /// It is asked with so many requests now.
    Requests(usize),
}

impl Outcomes {
    /// Tells something.
    pub(crate) fn push(&mut self, outcome: Outcome) {
        self.list.push(outcome);
    }

    /// Tells of a device.
    pub(crate) fn device(&mut self, device: usize, event: DeviceEvent) {
        self.push(Outcome::Device(device, event));
    }

    /// Tells the samples that `fill` appends, as one batch.
    pub(crate) fn batch(&mut self, fill: impl FnOnce(&mut Vec<RawSample>)) {
        let before = self.samples.len();
        fill(&mut self.samples);
        self.push(Outcome::Samples(self.samples.len() - before));
    }

    /// Whether there is nothing to be carried on.
    pub(crate) const fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// Takes everything out: the list, and the samples that it speaks of. Both are to be given back.
    pub(crate) fn take(&mut self) -> (Vec<Outcome>, Vec<RawSample>) {
        (std::mem::take(&mut self.list), std::mem::take(&mut self.samples))
    }

    /// Gives the room of emptied lists back: nothing is allocated while things go as they always do.
    pub(crate) fn give_back(&mut self, (mut list, mut samples): (Vec<Outcome>, Vec<RawSample>)) {
        list.clear();
        samples.clear();
        (self.list, self.samples) = (list, samples);
    }
}
