use crate::gateway::Running;
use crate::link::{Answer, Carried, Claim, FrameFilter, FrameRing, LinkCommand, OwedByTarget, Undone};
use crate::modbus;
use crate::trial::TrialError;
use interlex_core::PointIndex;
use interlex_core::description::Link;
use interlex_modbus::{ConnectionError, Request, Response};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc::error::TrySendError;
use tokio::sync::{Mutex, OwnedMutexGuard, mpsc, oneshot};
use tokio::time::Instant;

/// The way to a link for something that is done once: the connection that is open anyway, or one of its own.
pub(crate) struct Line {
    target: String,
    way: Way,
}

enum Way {
    /// Many devices take one connection only, and a serial port opens once.
    Shared {
        commands: mpsc::Sender<LinkCommand>,
        writing: Arc<Mutex<()>>,
    },
    Own(Box<Carried>, FrameRing),
}

/// A link that is busy with a slow device answers within this, or it is given up.
const PATIENCE: Duration = Duration::from_secs(15);

impl Line {
    pub(crate) async fn open(link: &Link, running: Option<&Running>) -> Result<Self, TrialError> {
        let target = link.protocol.target();
        if let Some((commands, writing)) = running.and_then(|running| running.link_to(&target)) {
            return Ok(Self { target, way: Way::Shared { commands, writing } });
        }
        let config = modbus::client_config(&link.protocol);
        match modbus::connect(&link.protocol, config).await {
            Ok(own) => {
                let ring = FrameRing::new(config.framing, 1);
                let owed = running.map(|running| running.owed.of(&target)).unwrap_or_default();
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
                Ok(Answer { outcome, took: started.elapsed(), frames: ring.view(filter, |_| None) })
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
    pub(crate) frames: Vec<crate::FrameView>,
}

impl Exchange {
    pub(crate) fn milliseconds(&self) -> f64 {
        (self.took.as_secs_f64() * 1e5).round() / 100.0
    }
}
