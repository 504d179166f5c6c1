use crate::description::problem::Fault;
use crate::description::settings::is_false;
use crate::description::{Device, DeviceProtocol, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// An outstation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Dnp3Device {
    /// Its address, 0 to 65519.
    #[schemars(range(max = 65519))]
    pub address: u16,
    /// Our address, as the outstation is set to know it.
    #[serde(default = "default_master_address")]
    #[schemars(range(max = 65519))]
    pub master_address: u16,
    /// On a link over TLS, the name that the certificate of whoever speaks for it has to be for. Those that dial in need one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub certificate_name: Option<String>,
    /// How often everything is read, beside its changes.
    #[serde(default = "default_integrity_period")]
    pub integrity_period: Span,
    /// How often it is asked for events, beside those that it tells unasked.
    #[serde(default = "default_event_period")]
    pub event_period: Span,
    /// Whether it is asked for events alone, and tells none unasked.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub only_asked: bool,
    /// When it may forget what it told: once that is in the database, or as soon as it is in memory, of which a sudden end loses
    /// what was not sent.
    #[serde(default, skip_serializing_if = "Dnp3Confirm::is_stored")]
    #[schemars(extend("x-advanced" = true, "default" = "stored"))]
    pub confirm: Dnp3Confirm,
    /// How long that may take. What takes longer is not confirmed: the outstation tells it again.
    #[serde(default = "default_confirm_within", skip_serializing_if = "is_default_confirm_within")]
    #[schemars(extend("x-advanced" = true, "default" = "2s"))]
    pub confirm_within: Span,
    /// How its clock is set when it asks for that.
    #[serde(default, skip_serializing_if = "Dnp3TimeSync::is_lan")]
    #[schemars(extend("x-advanced" = true, "default" = "lan"))]
    pub time_sync: Dnp3TimeSync,
    /// Whether its clock is set even while the system says that nothing keeps ours right.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub time_anyway: bool,
    /// How often an unanswered request that changes nothing is sent again.
    #[serde(default = "default_retries", skip_serializing_if = "is_default_retries")]
    #[schemars(range(max = 10), extend("x-advanced" = true, "default" = 1))]
    pub retries: u8,
}

/// When an outstation may forget what it told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dnp3Confirm {
    /// Once it is in the database, and a sudden end loses nothing of it.
    #[default]
    Stored,
    /// As soon as it is in memory.
    Received,
}

impl Dnp3Confirm {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_stored(&self) -> bool {
        *self == Self::Stored
    }
}

/// How the clock of an outstation is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dnp3TimeSync {
    /// It notes when it got a message, and is told when that was sent: for networks.
    #[default]
    Lan,
    /// How long a message takes is measured first: for serial lines.
    NonLan,
    /// It is not.
    Off,
}

impl Dnp3TimeSync {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_lan(&self) -> bool {
        *self == Self::Lan
    }
}

const fn default_master_address() -> u16 {
    1
}

const fn default_integrity_period() -> Span {
    Span::from_millis(3_600_000)
}

const fn default_event_period() -> Span {
    Span::from_millis(10_000)
}

const fn default_confirm_within() -> Span {
    Span::from_millis(2000)
}

fn is_default_confirm_within(within: &Span) -> bool {
    *within == default_confirm_within()
}

const fn default_retries() -> u8 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_default_retries(retries: &u8) -> bool {
    *retries == default_retries()
}

/// Two devices of one link with one address; the places of these in the draft stand beside them.
pub(in crate::description) fn shared_addresses(devices: &[(usize, Device)]) -> Vec<(usize, Fault)> {
    let (mut known, mut faults) = (BTreeMap::new(), Vec::new());
    for (place, device) in devices {
        let DeviceProtocol::Dnp3(own) = &device.protocol else { continue };
        let name = device.settings.name.as_str();
        if let Some(other) = known.insert((device.settings.link.as_str(), own.address), name) {
            let message = format!("address {} is taken by {other:?}", own.address);
            faults.push((*place, Fault::new("address", message, "an address of its own")));
        }
    }
    faults
}
