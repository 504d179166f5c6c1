use super::command::{Action, Answer, Command, CommandId};
use super::frames::FrameLog;
use super::memory::Memories;
use super::outcomes::Outcomes;
use super::plan::LinkPlan;
use super::told::Ticket;
use super::view::RequestView;
use interlex_core::description::Link;
use interlex_core::{Clock, PointTable, Reason};
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

/// What a driver has from the floor.
#[derive(Debug, Clone)]
pub(crate) struct DriverContext {
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) memories: Memories,
}

/// Why a link did not come up, or went down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Lost(pub(crate) String);

/// A device has as many commands as it may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Full;

/// The way of one protocol with one link: its session, its schedule or subscriptions, its retries, how values are written and
/// read back. The [task of the link](super::task) does the rest.
///
/// Whatever takes time is a state of the driver and not a future that a dropped branch would lose: [`FieldDriver::next`] waits for
/// readiness or a deadline, and can be dropped at any moment. Each command that was accepted gets exactly one answer: what was
/// not sent is refused, what was sent is unknown when it is cancelled, late, or the link goes down.
pub(crate) trait FieldDriver: Sized + Send + 'static {
    /// A connection with all that ends with it.
    type Session: Send;

    /// A driver that has not connected yet.
    fn new(plan: LinkPlan, context: DriverContext) -> Self;

    /// What leads to a session is done without one; gives an action back that needs one.
    fn without_session(
        _link: &Link,
        _context: &DriverContext,
        action: Action,
    ) -> Result<Pin<Box<dyn Future<Output = Answer> + Send>>, Action> {
        Err(action)
    }

    /// A reason in the words of the protocol.
    #[must_use]
    fn words(reason: Reason) -> String {
        reason.to_string()
    }

    /// The recording of what goes over the link.
    fn frames(&self) -> Arc<dyn FrameLog>;

    /// How long one character, and the silence around a frame, take on the line; `None` where there is no line of a known speed.
    fn line(&self) -> Option<(Duration, Duration)>;

    /// Tells what there is to tell before anything is connected.
    fn begin(&mut self, out: &mut Outcomes);

    /// Connects, or begins to listen.
    fn connect(&mut self) -> impl Future<Output = Result<Self::Session, Lost>> + Send + 'static;

    /// The session is up: everything is to be asked anew.
    fn connected(&mut self, session: &mut Self::Session);

    /// Does what is due, and waits until something happened. Tells everything in `out`; an error means that the whole link is
    /// lost. It can be dropped and called again without a loss, and waits for nothing while there is something in `out`. When it
    /// is called, every listener has taken in what was told before: a device may be told so.
    fn next(
        &mut self,
        session: &mut Self::Session,
        out: &mut Outcomes,
    ) -> impl Future<Output = Result<(), Lost>> + Send;

    /// Takes a command. What cannot be done at all is answered at once.
    ///
    /// # Errors
    /// [`Full`] when its device has [too many](super::command::DEVICE_COMMANDS) already.
    fn submit(&mut self, session: &mut Self::Session, command: Command, out: &mut Outcomes) -> Result<(), Full>;

    /// Whoever asked does not want it any more, or it is late: tells what became of it.
    fn cancel(&mut self, id: CommandId, why: &str, out: &mut Outcomes);

    /// The link is described anew. What did not change goes on as it was, with all that was learned.
    fn change(&mut self, plan: LinkPlan, out: &mut Outcomes);

    /// What was told with a ticket is safe, or cannot become so.
    fn settled(&mut self, _ticket: Ticket, _is_safe: bool) {}

    /// The session is over: commands under way are told what is known of them.
    fn lost(&mut self, session: Self::Session, why: &str, out: &mut Outcomes);

    /// What the link does again and again, and what was learned, in words.
    fn activity(&self, points: &PointTable) -> Vec<RequestView>;

    /// Tries anew what was learned about a device, by its place, or about all.
    fn relearn(&mut self, device: Option<usize>);
}
