//! What is done once with a device, a request at a time: as states, without I/O.

mod identify;
mod offers;
mod read;
mod write;

pub(super) use identify::{Appearance, Identify, properties_of_devices};
pub(super) use offers::{Offers, Sought};
pub(super) use read::ReadErrand;
pub(super) use write::WriteErrand;

use super::ways::Ways;
use crate::error::TrialError;
use crate::link::{Answer, End, FrameView};
use interlex_bacnet::{ConfirmedService, Failure, ObjectIdentifier};
use std::time::{Duration, Instant};

/// Something that takes a request or several, each after the answer to the one before.
pub(super) trait Errand: Send {
    /// What to do next; the same until something was answered.
    fn next(&mut self, ways: &Ways, now: Instant) -> Step;

    /// A request was answered, or was not in time.
    fn answered(&mut self, ways: &mut Ways, reply: Reply);

    /// It cannot go on.
    fn given_up(&mut self, end: &End<'_>) -> Answer;

    /// The object that it has written to: what shows it is read at once.
    fn written(&self) -> Option<ObjectIdentifier> {
        None
    }
}

/// What an errand wants.
#[derive(Debug)]
pub(super) enum Step {
    /// A request to be sent.
    Ask(ConfirmedService, Vec<u8>),
    /// Nothing before a moment.
    Wait(Instant),
    /// Nothing any more.
    Done(Box<Answer>),
}

/// What a request brought.
#[derive(Debug)]
pub(super) struct Reply {
    pub(super) outcome: Result<Vec<u8>, Failure>,
    pub(super) took: Duration,
    pub(super) frames: Vec<FrameView>,
}

pub(super) const NOT_OURS: &str = "the device speaks another protocol";

pub(super) fn device_error(instance: u32, why: &impl ToString, frames: Vec<FrameView>) -> TrialError {
    TrialError::Device { peer: super::frames::peer(instance), why: why.to_string(), frames }
}
