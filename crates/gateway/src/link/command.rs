use super::schedule::PlanView;
use super::{FrameFilter, FrameRing, FrameView};
use interlex_core::PointIndex;
use interlex_modbus::{Request, RequestError, Response};
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
        answer: oneshot::Sender<Result<Answer, String>>,
    },
    /// Tells which requests are sent.
    Plan(oneshot::Sender<Vec<PlanView>>),
    /// Tries anew what was learned about a device, by its name, or about all.
    Relearn(Option<String>),
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

/// The frames of one exchange: those of a unit that came after a number, without those of other requests under way.
pub(crate) fn frames_of(ring: &FrameRing, unit: u8, after: u64, request: &Request) -> Vec<FrameView> {
    let text = request.to_string();
    let filter = FrameFilter { after: Some(after), unit: Some(unit), errors: false };
    let frames = ring.view(filter, |_| None);
    frames.into_iter().filter(|frame| frame.request.as_ref().unwrap_or(&frame.text) == &text).collect()
}
