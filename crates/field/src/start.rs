use crate::bacnet::{self, BacnetDriver};
use crate::dnp3::{self, Dnp3Driver};
use crate::error::TrialError;
use crate::link::{
    Action, Answer, DeviceAct, FieldDriver, LinkHandle, LinkPlan, LinkTask, OfferRequest, OfferSource, PointWrite,
    Relinquish, Surroundings, TrialAct, TrialIdentity, TrialRead, TrialReading, Via, WriteError, WriteOutcome,
};
use crate::modbus::{self, ModbusDriver};
use crate::opcua::{self, OpcUaDriver};
use interlex_busy::watched;
use interlex_core::description::{Access, Description, Device, DeviceProtocol, Link, LinkProtocol, Protocol};
use interlex_core::{CommandRefusal, OfferEvent};
use std::any::Any;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// Starts a link with everything behind it; it ends with `stop`.
#[must_use]
pub fn start(
    description: &Description,
    link: &Link,
    around: &Surroundings,
    stop: CancellationToken,
) -> (LinkHandle, JoinHandle<()>) {
    let plan = LinkPlan::new(description, link, &around.points);
    match &link.protocol {
        LinkProtocol::Modbus(_) => run::<ModbusDriver>(plan, around, stop),
        LinkProtocol::OpcUa(_) => run::<OpcUaDriver>(plan, around, stop),
        LinkProtocol::Dnp3(_) => run::<Dnp3Driver>(plan, around, stop),
        LinkProtocol::Bacnet(_) => run::<BacnetDriver>(plan, around, stop),
    }
}

fn run<D: FieldDriver>(plan: LinkPlan, around: &Surroundings, stop: CancellationToken) -> (LinkHandle, JoinHandle<()>) {
    let name = plan.link.settings.name.to_string();
    let (task, handle) = LinkTask::<D>::new(plan, around);
    (handle, tokio::spawn(watched("link", name, task.run(stop))))
}

async fn carry_out(via: &Via, link: &Link, action: Action) -> (Answer, bool) {
    match &link.protocol {
        LinkProtocol::Modbus(_) => via.carry_out::<ModbusDriver>(link, action).await,
        LinkProtocol::OpcUa(_) => via.carry_out::<OpcUaDriver>(link, action).await,
        LinkProtocol::Dnp3(_) => via.carry_out::<Dnp3Driver>(link, action).await,
        LinkProtocol::Bacnet(_) => via.carry_out::<BacnetDriver>(link, action).await,
    }
}

/// Reads a point once, now. When a running link leads to the same place, it goes over that, ahead of its polls.
///
/// # Errors
/// [`TrialError`]
pub async fn read(read: &TrialRead, via: &Via) -> Result<TrialReading, TrialError> {
    match carry_out(via, &read.link, Action::Read(Box::new(read.clone()))).await {
        (Answer::Read(reading), shared_connection) => {
            reading.map(|reading| TrialReading { shared_connection, ..reading })
        }
        _ => Err(TrialError::Request("the link answered something else".to_owned())),
    }
}

/// Checks, writes, and reads back. When a running link leads to the same place, it goes over that, ahead of its polls.
///
/// # Errors
/// [`WriteError`]
pub async fn write(write: &PointWrite, via: &Via) -> Result<WriteOutcome, WriteError> {
    // What is refused anyway needs no connection.
    if write.relinquishes == Relinquish::No {
        interlex_core::check_command(&write.point, &write.value)?;
    } else if write.point.settings.access == Access::Read {
        return Err(CommandRefusal::ReadOnly.into());
    } else if write.point.bacnet().is_none() {
        return Err(CommandRefusal::NoPriorities.into());
    }
    match carry_out(via, &write.link, Action::Write(Box::new(write.clone()))).await {
        (Answer::Written(outcome), shared_connection) => {
            outcome.map(|outcome| WriteOutcome { shared_connection, ..outcome })
        }
        _ => Err(WriteError::Value("the link answered something else".to_owned())),
    }
}

/// In which ways the devices of a protocol tell what they have.
#[must_use]
pub fn sources(protocol: Protocol) -> Vec<OfferSource> {
    match protocol {
        Protocol::Modbus => modbus::sources(),
        Protocol::OpcUa => opcua::sources(),
        Protocol::Dnp3 => dnp3::sources(),
        Protocol::Bacnet => bacnet::sources(),
    }
}

/// Asks a device who it is.
///
/// # Errors
/// [`TrialError`], also when the device cannot say.
pub async fn identify(link: &Link, device: &Device, via: &Via) -> Result<TrialIdentity, TrialError> {
    let discovery: Box<dyn Any + Send> = match &device.protocol {
        DeviceProtocol::Modbus(device) => Box::new(modbus::Discovery::Identify(device.unit)),
        DeviceProtocol::OpcUa(_) => Box::new(opcua::Discovery::Identify(device.settings.name.to_string())),
        DeviceProtocol::Dnp3(own) => Box::new(dnp3::Discovery::Identify(own.address, own.master_address)),
        DeviceProtocol::Bacnet(own) => Box::new(bacnet::Discovery::Identify(own.clone())),
    };
    carry_out(via, link, Action::Discover(discovery)).await.0.found()
}

/// Tells or asks a device something once, beside its points.
///
/// # Errors
/// [`TrialError`], also when its protocol has no such thing.
pub async fn act(link: &Link, device: &Device, act: DeviceAct, via: &Via) -> Result<TrialAct, TrialError> {
    let DeviceProtocol::Dnp3(own) = &device.protocol else {
        return Err(TrialError::Request("only outstations of DNP3 can be told that".to_owned()));
    };
    let what = Box::new(dnp3::Discovery::Act(own.address, own.master_address, act));
    carry_out(via, link, Action::Discover(what)).await.0.found()
}

/// What is to be told of a device or a link, from the first request to the last: ready to be asked.
pub struct Offering {
    link: Link,
    discovery: Box<dyn Any + Send>,
    events: mpsc::Sender<OfferEvent>,
}

impl std::fmt::Debug for Offering {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Offering").field("link", &self.link.settings.name).finish_non_exhaustive()
    }
}

impl Offering {
    /// Understands what is asked for.
    ///
    /// # Errors
    /// What is wrong with it and what would be right, in words.
    pub fn new(request: &OfferRequest, events: mpsc::Sender<OfferEvent>) -> Result<Self, String> {
        let discovery: Box<dyn Any + Send> = match &request.link.protocol {
            LinkProtocol::Modbus(_) => Box::new(modbus::discovery(request, &events)?),
            LinkProtocol::OpcUa(_) => Box::new(opcua::discovery(request, &events)?),
            LinkProtocol::Dnp3(_) => Box::new(dnp3::discovery(request, &events)?),
            LinkProtocol::Bacnet(_) => Box::new(bacnet::discovery(request, &events)?),
        };
        Ok(Self { link: request.link.clone(), discovery, events })
    }

    /// Asks, and tells what it finds; over the running link that leads to the same place, whose polls go on. It ends when nobody
    /// listens any more.
    pub async fn carry_out(self, via: &Via) {
        let asked = carry_out(via, &self.link, Action::Discover(self.discovery));
        let answer = tokio::select! {
            (answer, _) = asked => answer,
            () = self.events.closed() => return,
        };
        let last = answer.found().unwrap_or_else(|error| vec![OfferEvent::Failed { why: error.to_string() }]);
        for event in last {
            // Whoever listened may have gone.
            let _ = self.events.send(event).await;
        }
    }
}
