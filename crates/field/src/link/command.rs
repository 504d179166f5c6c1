use super::plan::LinkPlan;
use super::trial::{TrialRead, TrialReading};
use super::view::RequestView;
use super::write::{PointWrite, WriteError, WriteOutcome};
use crate::error::TrialError;
use interlex_core::{LatestTable, PointIndex, PointTable};
use std::any::Any;
use std::sync::Arc;
use tokio::sync::oneshot;
use tokio::time::Instant;

/// The number of a command, unique on its link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct CommandId(pub(crate) u64);

/// Something to do once with a device, ahead of the polls.
#[derive(Debug)]
pub(crate) struct Command {
    pub(crate) id: CommandId,
    pub(crate) action: Action,
}

/// What is to be done.
#[derive(Debug)]
pub(crate) enum Action {
    /// Reads a point that need not run.
    Read(Box<TrialRead>),
    /// Checks, writes, and reads back.
    Write(Box<PointWrite>),
    /// Finds out something in a way that only the protocol knows.
    Discover(Box<dyn Any + Send>),
}

/// What became of a command: exactly one for each that was accepted.
#[derive(Debug)]
pub(crate) enum Answer {
    Read(Result<TrialReading, TrialError>),
    Written(Result<WriteOutcome, WriteError>),
    /// What was found, as its asker knows to take it.
    Found(Result<Box<dyn Any + Send>, TrialError>),
}

impl Answer {
    /// What was found, in the form that its asker knows.
    pub(crate) fn found<T: 'static>(self) -> Result<T, TrialError> {
        let other = || TrialError::Request("the link speaks another protocol".to_owned());
        let Self::Found(found) = self else { return Err(other()) };
        let found: Box<dyn Any> = found?;
        found.downcast().map(|found| *found).map_err(|_| other())
    }
}

/// Of which kind the answer to a command is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ActionKind {
    Read,
    Write,
    Discover,
}

impl Action {
    pub(crate) const fn kind(&self) -> ActionKind {
        match self {
            Self::Read(_) => ActionKind::Read,
            Self::Write(_) => ActionKind::Write,
            Self::Discover(_) => ActionKind::Discover,
        }
    }
}

impl ActionKind {
    /// The answer when nothing was done.
    pub(crate) fn refused(self, target: &str, why: &str) -> Answer {
        let error = TrialError::Connect { target: target.to_owned(), why: why.to_owned() };
        match self {
            Self::Read => Answer::Read(Err(error)),
            Self::Write => Answer::Written(Err(error.into())),
            Self::Discover => Answer::Found(Err(error)),
        }
    }
}

/// Where somebody waits for an answer.
pub(super) type Pending = oneshot::Sender<Answer>;

/// What a running link is told from outside.
#[derive(Debug)]
pub(crate) enum LinkCommand {
    /// Something to do once. Whoever asked may have gone when it is done. What has not been sent by the deadline, or until they
    /// went, is refused; of what has, nobody knows what became of it.
    Do { action: Action, deadline: Instant, answer: Pending },
    /// Tells which requests are sent, with the names of these points.
    Requests(Arc<PointTable>, oneshot::Sender<Vec<RequestView>>),
    /// Tries anew what was learned about a device, by its name, or about all.
    Relearn(Option<String>),
    /// Some points are its no more; tells when nothing more is told of them.
    Leave(Leaving, oneshot::Sender<()>),
    /// What its points are called from now on, of which none is another one.
    Points(Arc<PointTable>),
    /// Other devices, or other points of them, from now on, in this table; tells when it is so.
    Change(Box<(LinkPlan, Arc<PointTable>, Arc<LatestTable>)>, oneshot::Sender<()>),
}

/// Points that a link is to tell nothing more of.
#[derive(Debug, Default)]
pub(crate) struct Leaving {
    pub(crate) points: Vec<PointIndex>,
    /// Those of them that mean something else from now on: what was read is forgotten.
    pub(crate) redefined: Vec<PointIndex>,
}

/// People and programs wait for each of these; more than a few at a time would hold up the polls.
pub(crate) const DEVICE_COMMANDS: usize = 8;

/// Of all devices of a link together. Whoever comes then waits, and after as many again is refused.
pub(crate) const LINK_COMMANDS: usize = 64;
