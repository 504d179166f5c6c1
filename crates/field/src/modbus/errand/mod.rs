//! What is done once with a Modbus device, a request at a time: as states, without I/O.

mod identify;
mod read;
mod scan;
mod sunspec;
mod write;

pub(super) use identify::Identify;
pub(super) use read::ReadErrand;
pub(super) use scan::{Scan, Scanning};
pub(super) use sunspec::SunSpec;
pub(super) use write::WriteErrand;

use crate::error::TrialError;
use crate::link::{Answer, End, FrameView, milliseconds};
use interlex_core::PointIndex;
use interlex_modbus::{Request, RequestError, Response};
use std::time::{Duration, Instant};

/// Something that takes a request or several, each after the answer to the one before.
pub(super) trait Errand: Send {
    /// The unit that it is about.
    fn unit(&self) -> u8;

    /// Whether it changes something: of these, one at a time goes to a unit, up to its end.
    fn writes(&self) -> bool {
        false
    }

    /// What to do next; the same until something was answered.
    fn next(&mut self, now: Instant) -> Step;

    /// A request was answered, or was not in time.
    fn answered(&mut self, reply: Reply, now: Instant);

    /// It cannot go on.
    fn given_up(&mut self, end: &End<'_>) -> Answer;
}

/// What an errand wants.
#[derive(Debug)]
pub(super) enum Step {
    /// A request to be sent.
    Send {
        unit: u8,
        request: Request,
        /// The point that it writes to: what reads it is due at once.
        written: Option<PointIndex>,
    },
    /// Nothing before a moment.
    Wait(Instant),
    /// Nothing any more.
    Done(Answer),
}

/// What a request brought.
#[derive(Debug)]
pub(super) struct Reply {
    pub(super) outcome: Result<Response, RequestError>,
    pub(super) took: Duration,
    pub(super) frames: Vec<FrameView>,
}

impl Reply {
    fn milliseconds(&self) -> f64 {
        milliseconds(self.took)
    }
}

fn device_error(unit: u8, why: &impl ToString, frames: Vec<FrameView>) -> TrialError {
    TrialError::Device { peer: super::frames::peer(unit), why: why.to_string(), frames }
}

const NOT_OURS: &str = "the device speaks another protocol";

fn something_else() -> TrialError {
    TrialError::Request("the device answered something else".to_owned())
}
