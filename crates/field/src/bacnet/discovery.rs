//! What can be asked of BACnet devices, and of who is there.

use super::ede;
use crate::link::{OfferRequest, OfferSource};
use interlex_core::OfferEvent;
use interlex_core::description::{BacnetDevice, Form, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;
use std::time::Duration;
use tokio::sync::mpsc;

/// What can be found out.
pub(crate) enum Discovery {
    /// Who a device is.
    Identify(Box<BacnetDevice>),
    /// Which objects it has.
    Objects(Box<BacnetDevice>, String, mpsc::Sender<OfferEvent>),
    /// Which devices there are.
    Devices(WhoIsThere, mpsc::Sender<OfferEvent>),
    /// What a list of data points describes: told without a device.
    List(Box<EdeFiles>),
}

/// Who is looked for.
#[derive(Debug, Clone)]
pub(crate) struct WhoIsThere {
    pub(super) range: Option<(u32, u32)>,
    pub(super) network: Option<u16>,
    pub(super) wait: Duration,
}

/// An EDE list with the words for states that come with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct EdeFiles {
    pub(super) points: String,
    pub(super) states: String,
    /// The instance of the device whose objects are meant; all in the list when none is said.
    pub(super) instance: Option<u32>,
}

/// Everybody is asked who is there.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct DevicesForm {
    /// The lowest instance that is looked for.
    #[serde(default)]
    #[schemars(range(max = 4_194_302), extend("default" = 0))]
    low: u32,
    /// The highest instance that is looked for.
    #[serde(default = "most")]
    #[schemars(range(max = 4_194_302), extend("default" = 4_194_302))]
    high: u32,
    /// The number of the network behind a router on which is looked; all when left out.
    #[serde(default)]
    #[schemars(range(min = 1, max = 65534))]
    network: Option<u16>,
    /// How long they may take to answer. Those behind slow lines need longer.
    #[serde(default = "wait")]
    wait: Span,
}

/// Which objects a device has.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct ObjectsForm {
    /// Only those whose name, description or address has this in it.
    #[serde(default)]
    #[schemars(extend("default" = ""))]
    containing: String,
}

/// A list of data points in a file.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct ListForm {
    /// The list: an EDE file, with semicolons, commas or tabs between its columns.
    #[schemars(extend("x-lines" = true))]
    file: String,
    /// The list of the words for states that belongs to it.
    #[serde(default)]
    #[schemars(extend("x-lines" = true, "default" = ""))]
    states: String,
}

const fn most() -> u32 {
    4_194_302
}

const fn wait() -> Span {
    Span::from_millis(3000)
}

static DEVICES: LazyLock<Form> = LazyLock::new(Form::of::<DevicesForm>);
static OBJECTS: LazyLock<Form> = LazyLock::new(Form::of::<ObjectsForm>);
static LIST: LazyLock<Form> = LazyLock::new(Form::of::<ListForm>);

/// The ways in which BACnet devices tell what there is.
pub(crate) fn sources() -> Vec<OfferSource> {
    let source =
        |word, title, of_device, form: &Form| OfferSource { word, title, of_device, form: form.document().clone() };
    vec![
        source("devices", "Which devices are there", false, &DEVICES),
        source("objects", "Which objects it has", true, &OBJECTS),
        source("ede", "What its list of data points (EDE) describes", true, &LIST),
    ]
}

/// What is to be done for a source.
pub(crate) fn discovery(request: &OfferRequest, events: &mpsc::Sender<OfferEvent>) -> Result<Discovery, String> {
    let device = || {
        let device = request.device.as_ref().ok_or("there is no device; expected the one that is asked")?;
        device.protocol.bacnet().cloned().map(Box::new).ok_or("the device speaks another protocol")
    };
    match request.source.as_str() {
        "devices" => {
            let DevicesForm { low, high, network, wait } = DEVICES.read(&request.filled)?;
            if low > high {
                return Err(format!("low {low} is above high {high}"));
            }
            let range = (low > 0 || high < most()).then_some((low, high));
            let wait = Duration::from(wait).min(Duration::from_secs(60));
            Ok(Discovery::Devices(WhoIsThere { range, network, wait }, events.clone()))
        }
        "objects" => {
            let ObjectsForm { containing } = OBJECTS.read(&request.filled)?;
            Ok(Discovery::Objects(device()?, containing.trim().to_lowercase(), events.clone()))
        }
        "ede" => {
            let ListForm { file, states } = LIST.read(&request.filled)?;
            let longest = file.len().max(states.len());
            if longest > ede::LARGEST {
                return Err(format!("file has {longest} bytes; expected {} at the most", ede::LARGEST));
            }
            let instance = device().ok().map(|device| device.instance);
            Ok(Discovery::List(Box::new(EdeFiles { points: file, states, instance })))
        }
        other => Err(format!("source is {other:?}; expected devices, objects or ede")),
    }
}
