use crate::clock::SystemClock;
use crate::running::Running;
use interlex_core::description::{Device, JsonUplink, Link, Selection};
use interlex_field::{
    DeviceAct, Memories, Offering, PointWrite, TrialAct, TrialError, TrialIdentity, TrialRead, TrialReading, Via,
    WriteError, WriteOutcome,
};
use interlex_uplink::SentMessage;
use std::sync::Arc;

/// Where trials go: over the links that run, where these lead to the same place, else over connections of their own.
#[must_use]
pub fn via(running: Option<&Running>, memories: &Memories) -> Via {
    running.map_or_else(|| Via::nothing(memories.clone(), Arc::new(SystemClock)), Running::via)
}

/// Reads a point that need not run.
///
/// # Errors
/// [`TrialError`]
pub async fn try_read(read: &TrialRead, via: &Via) -> Result<TrialReading, TrialError> {
    interlex_field::read(read, via).await
}

/// Writes to a point that need not run.
///
/// # Errors
/// [`WriteError`]
pub async fn try_write(write: &PointWrite, via: &Via) -> Result<WriteOutcome, WriteError> {
    interlex_field::write(write, via).await
}

/// Asks a device who it is.
///
/// # Errors
/// [`TrialError`]
pub async fn identify(link: &Link, device: &Device, via: &Via) -> Result<TrialIdentity, TrialError> {
    interlex_field::identify(link, device, via).await
}

/// Tells or asks a device something once, beside its points.
///
/// # Errors
/// [`TrialError`]
pub async fn act(link: &Link, device: &Device, act: DeviceAct, via: &Via) -> Result<TrialAct, TrialError> {
    interlex_field::act(link, device, act, via).await
}

/// Lets a device or a link tell what it has; ends when nobody listens any more.
pub async fn ask_for_offers(offering: Offering, via: &Via) {
    offering.carry_out(via).await;
}

/// What an uplink would send now, with the values of the running points: nothing is sent.
pub async fn preview(running: &Running, own: &JsonUplink, selection: Option<&Selection>) -> Vec<SentMessage> {
    let (gateway, clock) = (&running.description().gateway, running.clock());
    interlex_uplink::preview(gateway, running.inventory(), (own, selection), (&**clock, interlex_field::reason_words))
        .await
}
