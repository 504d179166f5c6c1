//! What outstations can be asked of themselves.

use crate::link::{DeviceAct, OfferRequest, OfferSource};
use interlex_core::OfferEvent;
use interlex_core::description::Form;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;
use tokio::sync::mpsc;

/// What can be found out about an outstation, by its address and ours.
pub(crate) enum Discovery {
    /// Who it is.
    Identify(u16, u16),
    /// Which points it has.
    Points(u16, u16),
    /// It is told or asked something.
    Act(u16, u16, DeviceAct),
}

/// All points are told: nothing is to be known first.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct PointsForm {}

static POINTS: LazyLock<Form> = LazyLock::new(Form::of::<PointsForm>);

/// What outstations tell of themselves.
pub(crate) fn sources() -> Vec<OfferSource> {
    let form = POINTS.document().clone();
    vec![OfferSource { word: "points", title: "Which points it has", of_device: true, form }]
}

/// What is to be done for a source.
pub(crate) fn discovery(request: &OfferRequest, _: &mpsc::Sender<OfferEvent>) -> Result<Discovery, String> {
    if request.source != "points" {
        return Err(format!("source is {:?}; expected points", request.source));
    }
    let PointsForm {} = POINTS.read(&request.filled)?;
    let device = request.device.as_ref().ok_or("there is no device; expected the one that is asked")?;
    let own = device.protocol.dnp3().ok_or("the device speaks another protocol")?;
    Ok(Discovery::Points(own.address, own.master_address))
}
