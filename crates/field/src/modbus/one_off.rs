use super::connect::{client_config, connect};
use super::frames::ModbusFrames;
use super::owed::{Carried, OwedByTarget};
use crate::error::TrialError;
use crate::link::{Answer, Claim, FrameFilter, FrameLog, FrameRing, FrameView, LinkCommand, LinkHandle, Undone};
use interlex_core::description::Link;
use interlex_core::{Clock, LinkState, PointIndex};
use interlex_modbus::{ConnectionError, Request, Response};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc::error::TrySendError;
use tokio::sync::{Mutex, OwnedMutexGuard, mpsc, oneshot};
use tokio::time::Instant;

/// The way to a link for something that is done once: the connection that is open anyway, or one of its own.
pub(crate) struct OneOff {
    target: String,
    way: Way,
}

enum Way {
    /// Many devices take one connection only, and a serial port opens once.
    Shared {
        commands: mpsc::Sender<LinkCommand>,
        writing: Arc<Mutex<()>>,
    },
    Own(Box<Carried>, FrameRing<ModbusFrames>),
}

/// What a running gateway has for something that is done once: the links that run, and what their lines still owe.
#[derive(Debug, Clone)]
pub struct Via {
    /// The links that run.
    pub links: Vec<LinkHandle>,
    /// The answers that lines owe.
    pub owed: OwedByTarget,
    /// The time of day.
    pub clock: Arc<dyn Clock>,
}

impl Via {
    /// Nothing runs.
    #[must_use]
    pub fn nothing(clock: Arc<dyn Clock>) -> Self {
        Self { links: Vec::new(), owed: OwedByTarget::default(), clock }
    }
}

/// Whether a link is up and leads to the same place.
fn leads_to(running: &LinkHandle, target: &str) -> bool {
    let status = running.status();
    status.target == target && status.state == LinkState::Up
}

/// A link that is busy with a slow device answers within this, or it is given up.
const PATIENCE: Duration = Duration::from_secs(15);

impl OneOff {
    pub(crate) async fn open(link: &Link, via: &Via) -> Result<Self, TrialError> {
        let target = link.protocol.target();
        if let Some(running) = via.links.iter().find(|running| leads_to(running, &target)) {
            let (commands, writing) = (running.commands().clone(), Arc::clone(running.writing()));
            return Ok(Self { target, way: Way::Shared { commands, writing } });
        }
        let config = client_config(&link.protocol);
        match connect(&link.protocol, config).await {
            Ok(own) => {
                let ring = FrameRing::new(ModbusFrames::new(config.framing, Vec::new()), 1, Arc::clone(&via.clock));
                let owed = via.owed.of(&target);
                Ok(Self { target, way: Way::Own(Box::new(OwedByTarget::carry(&owed, own)), ring) })
            }
            Err(error) => Err(TrialError::Connect { target, why: error.to_string() }),
        }
    }

    /// Whether it is that of the running gateway.
    pub(crate) const fn is_shared(&self) -> bool {
        matches!(self.way, Way::Shared { .. })
    }

    /// Nothing was sent.
    fn not_sent(&self, why: impl ToString) -> TrialError {
        TrialError::Connect { target: self.target.clone(), why: why.to_string() }
    }

    /// It was sent, and nothing came back, not even silence.
    fn lost(&self, why: impl ToString) -> TrialError {
        TrialError::Lost { target: self.target.clone(), why: why.to_string() }
    }

    /// Keeps others from writing over this link until it is dropped, so that reading, changing and writing is one step
    /// among us.
    pub(crate) async fn alone(&self) -> Option<OwnedMutexGuard<()>> {
        match &self.way {
            Way::Shared { writing, .. } => Some(Arc::clone(writing).lock_owned().await),
            Way::Own(..) => None,
        }
    }

    /// Sends one request; what the device says to it is in the answer, be it a refusal or silence.
    pub(crate) async fn exchange(
        &mut self,
        unit: u8,
        request: Request,
        written: Option<PointIndex>,
    ) -> Result<Answer, TrialError> {
        match &mut self.way {
            Way::Own(connection, ring) => {
                let (started, after) = (Instant::now(), ring.newest());
                let outcome = connection.call(unit, request).await;
                while let Some(frame) = connection.poll_frame() {
                    ring.record(frame);
                }
                let outcome = match outcome {
                    Ok(response) => Ok(response),
                    Err(ConnectionError::Request(error)) => Err(error),
                    Err(error) => return Err(self.lost(error)),
                };
                let filter = FrameFilter { after: Some(after), ..FrameFilter::default() };
                Ok(Answer { outcome, took: started.elapsed(), frames: ring.view(&filter) })
            }
            Way::Shared { commands, .. } => {
                let ((answer, answered), claim) = (oneshot::channel(), Claim::default());
                let command = LinkCommand::Send { unit, request, written, claim: claim.clone(), answer };
                let sent = commands.try_send(command);
                sent.map_err(|error| match error {
                    TrySendError::Full(_) => self.not_sent("the link has too much to do; try again"),
                    TrySendError::Closed(_) => self.not_sent("the link was stopped"),
                })?;
                // What was given up is not sent; what was sent before may have been carried out.
                let given_up = |why: &str| if claim.give_up() { self.not_sent(why) } else { self.lost(why) };
                match tokio::time::timeout(PATIENCE, answered).await {
                    Ok(Ok(Ok(answer))) => Ok(answer),
                    Ok(Ok(Err(Undone::NotSent(why)))) => Err(self.not_sent(why)),
                    Ok(Ok(Err(Undone::Unknown(why)))) => Err(self.lost(why)),
                    Ok(Err(_)) => Err(given_up("the link was stopped")),
                    Err(_) => Err(given_up("the link is busy")),
                }
            }
        }
    }

    /// Sends one request that has to be answered with what it asks for.
    pub(crate) async fn call(
        &mut self,
        unit: u8,
        request: Request,
        written: Option<PointIndex>,
    ) -> Result<(Response, Exchange), TrialError> {
        let Answer { outcome, took, frames } = self.exchange(unit, request, written).await?;
        match outcome {
            Ok(response) => Ok((response, Exchange { took, frames })),
            Err(error) => Err(TrialError::Device { unit, why: error.to_string(), frames }),
        }
    }
}

/// How an answer came.
pub(crate) struct Exchange {
    pub(crate) took: Duration,
    pub(crate) frames: Vec<FrameView>,
}

impl Exchange {
    pub(crate) fn milliseconds(&self) -> f64 {
        (self.took.as_secs_f64() * 1e5).round() / 100.0
    }
}
