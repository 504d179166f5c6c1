use crate::description::problem::Fault;
use crate::description::settings::{is_false, text_schema, text_type};
use crate::description::{Device, DeviceProtocol, Span};
use jiff::tz::TimeZone;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

/// A device with objects.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BacnetDevice {
    /// The instance of its device object, 0 to 4194302: it is found by that, wherever it is.
    #[schemars(range(max = 4_194_302))]
    pub instance: u32,
    /// Its IP address, with the port where that is another than ours, or that of the router to its network. It is asked for by its
    /// instance when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub host: Option<super::HostPort>,
    /// The number of its network, where it is behind a router.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 65534), extend("x-advanced" = true))]
    pub network: Option<u16>,
    /// Its address on that network, in hexadecimal digits: 0c for 12 on MS/TP. It is asked for by its instance when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub station: Option<String>,
    /// The priority at which its outputs are commanded, 1 to 16, of which 1 goes before all others; 6 is kept for the device.
    #[serde(default, skip_serializing_if = "ObjectPriority::is_lowest")]
    #[schemars(extend("default" = 16))]
    pub priority: ObjectPriority,
    /// Whether it is only asked, and no changes are subscribed to.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub only_asked: bool,
    /// For how long changes are subscribed to; that is renewed at half of it.
    #[serde(default = "default_lifetime", skip_serializing_if = "is_default_lifetime")]
    #[schemars(extend("x-advanced" = true, "default" = "10min"))]
    pub cov_lifetime: Span,
    /// How often what is subscribed to is read all the same, to see that no change was missed.
    #[serde(default = "default_check_period", skip_serializing_if = "is_default_check_period")]
    #[schemars(extend("x-advanced" = true, "default" = "5min"))]
    pub check_period: Span,
    /// Whether changes come unconfirmed: one that is lost on its way is seen at the next check only.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub unconfirmed_changes: bool,
    /// How many subscriptions it is given at the most. It is found out when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub most_subscriptions: Option<u32>,
    /// How large a message to it or from it may be, in octets, where the way there carries less than it says. It is found out when
    /// left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 50, max = 1476), extend("x-advanced" = true))]
    pub largest_message: Option<u16>,
    /// How often an unanswered request is sent again.
    #[serde(default = "default_retries", skip_serializing_if = "is_default_retries")]
    #[schemars(range(max = 10), extend("x-advanced" = true, "default" = 2))]
    pub retries: u8,
    /// Whether what its trend logs recorded while it was out of reach is had back.
    #[serde(default = "yes", skip_serializing_if = "is_true")]
    #[schemars(extend("x-advanced" = true, "default" = true))]
    pub backfill: bool,
    /// The time zone of its clock, such as Europe/Berlin. Without it summer time is not known, and times of trend logs are uncertain
    /// where it may be in force.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub timezone: Option<ZoneName>,
    /// How its clock is set.
    #[serde(default, skip_serializing_if = "BacnetTimeSync::is_off")]
    #[schemars(extend("x-advanced" = true, "default" = "off"))]
    pub time_sync: BacnetTimeSync,
}

/// How the clock of a device is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BacnetTimeSync {
    /// It is not.
    #[default]
    Off,
    /// It is told the time in UTC, once an hour, while ours goes right.
    Utc,
    /// It is told its local time, which needs its time zone.
    Local,
}

impl BacnetTimeSync {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_off(&self) -> bool {
        *self == Self::Off
    }
}

/// A priority, 1 to 16, at which a value is commanded.
///
/// Source: ASHRAE 135-2016, clause 19.2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "u8", into = "u8")]
pub struct ObjectPriority(u8);

impl ObjectPriority {
    /// Its number.
    #[must_use]
    pub const fn number(self) -> u8 {
        self.0
    }

    /// What is wrong with it: 6 is where the device itself holds a value for the least time that it has to be on or off.
    pub(super) fn fault(self) -> Option<Fault> {
        let expected = "1 to 5, or 7 to 16: 6 is kept for the least times of on and off";
        (self.0 == 6).then(|| Fault::new("priority", "it is 6", expected))
    }

    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    const fn is_lowest(&self) -> bool {
        self.0 == 16
    }
}

impl Default for ObjectPriority {
    fn default() -> Self {
        Self(16)
    }
}

impl TryFrom<u8> for ObjectPriority {
    type Error = &'static str;

    fn try_from(number: u8) -> Result<Self, &'static str> {
        if (1..=16).contains(&number) { Ok(Self(number)) } else { Err("1 to 16") }
    }
}

impl From<ObjectPriority> for u8 {
    fn from(priority: ObjectPriority) -> Self {
        priority.0
    }
}

impl JsonSchema for ObjectPriority {
    fn schema_name() -> Cow<'static, str> {
        "ObjectPriority".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "integer", "minimum": 1, "maximum": 16 })
    }
}

/// The name of a time zone that this machine knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneName(String);

/// A text that is no [`ZoneName`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no time zone that is known here")]
pub struct ParseZoneNameError(String);

impl ZoneName {
    /// What a file should say, for messages.
    pub const FORM: &str = "a time zone as Europe/Berlin, Etc/UTC or America/Sao_Paulo";

    /// The zone with its rules.
    ///
    /// # Errors
    /// When this machine does not know it any more.
    pub fn zone(&self) -> Result<TimeZone, ParseZoneNameError> {
        TimeZone::get(&self.0).map_err(|_| ParseZoneNameError(self.0.clone()))
    }
}

impl FromStr for ZoneName {
    type Err = ParseZoneNameError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let name = Self(text.trim().to_owned());
        name.zone().map(|_| name)
    }
}

impl fmt::Display for ZoneName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

text_type!(ZoneName, "ZoneName", "time-zone");

impl BacnetDevice {
    /// The address on its network.
    #[must_use]
    pub fn station_octets(&self) -> Option<Vec<u8>> {
        let text = self.station.as_deref()?;
        let digits: Vec<u32> = text.chars().map(|letter| letter.to_digit(16)).collect::<Option<_>>()?;
        let octet = |pair: &[u32; 2]| u8::try_from(pair[0] * 16 + pair[1]).ok();
        let (pairs, rest) = digits.as_chunks::<2>();
        if rest.is_empty() { pairs.iter().map(octet).collect() } else { None }
    }

    /// Where it is, where that is fixed.
    #[must_use]
    pub fn fixed(&self) -> Option<(Ipv4Addr, Option<u16>)> {
        self.host.map(|host| (host.host, host.port))
    }

    /// What its keys have against each other.
    pub(in crate::description) fn fault(&self) -> Option<Fault> {
        if self.station.is_some() && self.station_octets().is_none() {
            let message = format!("station is {:?}", self.station.as_deref().unwrap_or_default());
            return Some(Fault::new("station", message, "pairs of hexadecimal digits, such as 0c"));
        }
        if self.station.is_some() && self.network.is_none() {
            return Some(Fault::new("network", "it is missing, and there is a station", "the number of its network"));
        }
        if self.network.is_some() && self.host.is_some() && self.station.is_none() {
            let expected = "its address on that network, or no host: it is asked for by its instance then";
            return Some(Fault::new("station", "it is missing, and its router is fixed", expected));
        }
        if self.time_sync == BacnetTimeSync::Local && self.timezone.is_none() {
            return Some(Fault::new("timezone", "it is missing, and the local time is to be told", ZoneName::FORM));
        }
        if let Some(fault) = self.priority.fault() {
            return Some(fault);
        }
        // What is renewed so often costs more than it brings.
        if self.cov_lifetime < Span::from_millis(10_000) {
            return Some(Fault::new("cov-lifetime", format!("it is {}", self.cov_lifetime), "10s or more"));
        }
        None
    }
}

const fn default_lifetime() -> Span {
    Span::from_millis(600_000)
}

fn is_default_lifetime(span: &Span) -> bool {
    *span == default_lifetime()
}

const fn default_check_period() -> Span {
    Span::from_millis(300_000)
}

fn is_default_check_period(span: &Span) -> bool {
    *span == default_check_period()
}

const fn default_retries() -> u8 {
    2
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_default_retries(retries: &u8) -> bool {
    *retries == default_retries()
}

const fn yes() -> bool {
    true
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_true(bit: &bool) -> bool {
    *bit
}

/// Two devices of one link with one instance; the places of these in the draft stand beside them.
pub(in crate::description) fn shared_instances(devices: &[(usize, Device)]) -> Vec<(usize, Fault)> {
    let (mut known, mut faults) = (BTreeMap::new(), Vec::new());
    for (place, device) in devices {
        let DeviceProtocol::Bacnet(own) = &device.protocol else { continue };
        let name = device.settings.name.as_str();
        if let Some(other) = known.insert((device.settings.link.as_str(), own.instance), name) {
            let message = format!("instance {} is taken by {other:?}", own.instance);
            faults.push((*place, Fault::new("instance", message, "an instance of its own")));
        }
    }
    faults
}
