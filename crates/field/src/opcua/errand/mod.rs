//! What is done once with a server, a request at a time: as states, without I/O.

mod browse;
mod call;
mod identify;
mod read;
mod target;
mod write;

pub(super) use browse::Browse;
pub(crate) use browse::BrowseWanted;
pub(super) use call::CallErrand;
pub(super) use identify::Identify;
pub(super) use read::ReadErrand;
pub(super) use write::WriteErrand;

use super::facts::ServerFacts;
use crate::error::TrialError;
use crate::link::{Answer, End, FrameView, milliseconds};
use interlex_opcua::{Request, RequestError, Response};
use std::time::{Duration, Instant};

/// Something that takes a request or several, each after the answer to the one before.
pub(super) trait Errand: Send {
    /// The device that it is about.
    fn device(&self) -> &str;

    /// Whether it changes something: of these, one at a time goes to a device, up to its end.
    fn writes(&self) -> bool {
        false
    }

    /// What to do next; the same until something was answered.
    fn next(&mut self, facts: &ServerFacts, now: Instant) -> Step;

    /// A request was answered, or was not in time.
    fn answered(&mut self, reply: Reply, now: Instant);

    /// It cannot go on.
    fn given_up(&mut self, end: &End<'_>) -> Answer;
}

/// What an errand wants.
pub(super) enum Step {
    /// A request to be sent.
    Ask(Box<Request>),
    /// Nothing before a moment.
    Wait(Instant),
    /// Nothing any more.
    Done(Box<Answer>),
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

fn server_error(why: &impl ToString, frames: Vec<FrameView>) -> TrialError {
    TrialError::Device { peer: "server".to_owned(), why: why.to_string(), frames }
}

fn something_else() -> TrialError {
    TrialError::Request("the server answered something else".to_owned())
}
