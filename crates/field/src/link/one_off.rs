use super::command::{Action, Answer, Command, CommandId, LinkCommand};
use super::driver::{DriverContext, FieldDriver, Lost};
use super::handle::LinkHandle;
use super::memory::Memories;
use super::outcomes::{Outcome, Outcomes};
use super::plan::LinkPlan;
use interlex_core::description::Link;
use interlex_core::{Clock, LinkState};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc::error::TrySendError;
use tokio::sync::oneshot;
use tokio::time::{Instant, sleep_until};

/// What a running gateway has for something that is done once: the links that run, and what is remembered of places.
#[derive(Debug, Clone)]
pub struct Via {
    /// The links that run.
    pub links: Vec<LinkHandle>,
    /// What protocols remember of the places.
    pub memories: Memories,
    /// The time of day.
    pub clock: Arc<dyn Clock>,
}

/// A link that is busy with a slow device answers within this, or it is given up.
const PATIENCE: Duration = Duration::from_secs(15);
/// What is to be found out takes as long as it takes; whoever does not want it any more goes.
const DISCOVERY: Duration = Duration::from_secs(86_400);

impl Via {
    /// Nothing runs.
    #[must_use]
    pub const fn nothing(memories: Memories, clock: Arc<dyn Clock>) -> Self {
        Self { links: Vec::new(), memories, clock }
    }

    /// Does something once: over the running link that leads to the same place, ahead of its polls, since many devices take one
    /// connection only, and a serial port opens once; else over a connection of its own. Tells whether it was the running one.
    pub(crate) async fn carry_out<D: FieldDriver>(&self, link: &Link, action: Action) -> (Answer, bool) {
        let context = DriverContext { clock: Arc::clone(&self.clock), memories: self.memories.clone() };
        let action = match D::without_session(link, &context, action) {
            Ok(done) => return (done.await, false),
            Err(action) => action,
        };
        let patience = if matches!(action, Action::Discover(_)) { DISCOVERY } else { PATIENCE };
        let deadline = Instant::now() + patience;
        let target = link.protocol.target();
        match self.links.iter().find(|running| leads_to(running, link)) {
            Some(running) => (over(running, &target, action, deadline).await, true),
            None => (alone::<D>(link, context, action, deadline).await, false),
        }
    }
}

/// Whether a link is up and leads to the same place, as the same user where there are users.
fn leads_to(running: &LinkHandle, link: &Link) -> bool {
    running.protocol().shares(&link.protocol) && running.status().state == LinkState::Up
}

async fn over(running: &LinkHandle, target: &str, action: Action, deadline: Instant) -> Answer {
    let kind = action.kind();
    let (answer, answered) = oneshot::channel();
    if let Err(error) = running.commands().try_send(LinkCommand::Do { action, deadline, answer }) {
        return kind.refused(
            target,
            match error {
                TrySendError::Full(_) => "the link has too much to do; try again",
                TrySendError::Closed(_) => "the link was stopped",
            },
        );
    }
    // Whatever a driver has taken it answers; what it never took was not sent.
    answered.await.unwrap_or_else(|_| kind.refused(target, "the link was stopped"))
}

/// Over a session of its own, of a driver that has nothing else to do.
async fn alone<D: FieldDriver>(link: &Link, context: DriverContext, action: Action, deadline: Instant) -> Answer {
    let (kind, target) = (action.kind(), link.protocol.target());
    let mut driver = D::new(LinkPlan::alone(link), context);
    let mut session = match driver.connect().await {
        Ok(session) => session,
        Err(Lost(why)) => return kind.refused(&target, &why),
    };
    driver.connected(&mut session);
    let (id, mut out) = (CommandId(0), Outcomes::default());
    if driver.submit(&mut session, Command { id, action }, &mut out).is_err() {
        return kind.refused(&target, "the link has too much to do; try again");
    }
    loop {
        if let Some(answer) = answer_in(&mut out) {
            return answer;
        }
        let ended = tokio::select! {
            ended = driver.next(&mut session, &mut out) => ended,
            () = sleep_until(deadline) => {
                driver.cancel(id, "the link is busy", &mut out);
                Ok(())
            }
        };
        if let Err(Lost(why)) = ended {
            driver.lost(session, &why, &mut out);
            return answer_in(&mut out).unwrap_or_else(|| kind.refused(&target, &why));
        }
    }
}

fn answer_in(out: &mut Outcomes) -> Option<Answer> {
    let (list, _) = out.take();
    list.into_iter().find_map(|outcome| match outcome {
        Outcome::Answered(_, answer) => Some(answer),
        _ => None,
    })
}
