//! What outstations can be asked of themselves.

use super::profile;
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
    /// What a device profile describes: told without an outstation.
    Profile(String),
    /// It is told or asked something.
    Act(u16, u16, DeviceAct),
}

/// All points are told: nothing is to be known first.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct PointsForm {}

/// A file that comes with the outstation.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct ProfileForm {
    /// The file: XML with DNP3DeviceProfileDocument as its root.
    #[schemars(extend("x-lines" = true))]
    file: String,
}

static POINTS: LazyLock<Form> = LazyLock::new(Form::of::<PointsForm>);
static PROFILE: LazyLock<Form> = LazyLock::new(Form::of::<ProfileForm>);

/// What outstations tell of themselves.
pub(crate) fn sources() -> Vec<OfferSource> {
    let source = |word, title, form: &Form| OfferSource { word, title, of_device: true, form: form.document().clone() };
    vec![
        source("points", "Which points it has", &POINTS),
        source("profile", "What its device profile (XML) describes", &PROFILE),
    ]
}

/// What is to be done for a source.
pub(crate) fn discovery(request: &OfferRequest, _: &mpsc::Sender<OfferEvent>) -> Result<Discovery, String> {
    if request.source == "profile" {
        let ProfileForm { file } = PROFILE.read(&request.filled)?;
        if file.len() > profile::LARGEST {
            return Err(format!("file has {} bytes; expected {} at the most", file.len(), profile::LARGEST));
        }
        return Ok(Discovery::Profile(file));
    }
    if request.source != "points" {
        return Err(format!("source is {:?}; expected points or profile", request.source));
    }
    let PointsForm {} = POINTS.read(&request.filled)?;
    let device = request.device.as_ref().ok_or("there is no device; expected the one that is asked")?;
    let own = device.protocol.dnp3().ok_or("the device speaks another protocol")?;
    Ok(Discovery::Points(own.address, own.master_address))
}
