use super::frames::FrameView;
use super::view::RequestView;
use interlex_core::{PointIndex, PointTable};
use interlex_modbus::{Request, RequestError, Response};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::Duration;
use tokio::sync::oneshot;

/// Something to do once, ahead of the polls. Whoever asked may have gone when it is done.
#[derive(Debug)]
pub(crate) enum LinkCommand {
    /// Sends a request.
    Send {
        unit: u8,
        request: Request,
        /// The point that was written to: what reads it is due at once.
        written: Option<PointIndex>,
        /// Who sends it and who gives it up agree by this on who was first.
        claim: Claim,
        answer: oneshot::Sender<Result<Answer, Undone>>,
    },
    /// Tells which requests are sent, with the names of these points.
    Requests(Arc<PointTable>, oneshot::Sender<Vec<RequestView>>),
    /// Tries anew what was learned about a device, by its name, or about all.
    Relearn(Option<String>),
}

/// Whether a request was sent, or given up before: one of them, and never both.
#[derive(Debug, Clone, Default)]
pub(crate) struct Claim(Arc<AtomicU8>);

const SENT: u8 = 1;
const GIVEN_UP: u8 = 2;

impl Claim {
    /// The link is about to send it; `false` when it must not.
    pub(crate) fn send(&self) -> bool {
        self.take(SENT)
    }

    /// Whoever asked does not want it any more; `false` when it was sent already.
    pub(crate) fn give_up(&self) -> bool {
        self.take(GIVEN_UP)
    }

    fn take(&self, by: u8) -> bool {
        self.0.compare_exchange(0, by, Ordering::AcqRel, Ordering::Acquire).is_ok()
    }
}

/// Why a request brought no answer, not even a timeout.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Undone {
    /// It never left.
    NotSent(String),
    /// It left, and what became of it is not known.
    Unknown(String),
}

/// What a request brought that somebody waited for.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) outcome: Result<Response, RequestError>,
    pub(crate) took: Duration,
    pub(crate) frames: Vec<FrameView>,
}

/// People and programs wait for each of these; more than a few at a time would hold up the polls.
pub(crate) const COMMAND_QUEUE: usize = 8;
