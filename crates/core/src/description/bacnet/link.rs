use crate::description::problem::Fault;
use crate::description::settings::{text_schema, text_type};
use crate::description::{SecretText, Span};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::str::FromStr;

/// A port of this machine at which BACnet/IP is spoken, with all the devices that are reached from there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BacnetIpLink {
    /// The own network interface: its name, such as eth0, or the own IP address on it.
    #[schemars(length(min = 1), extend("x-destination" = true))]
    pub interface: String,
    /// The own UDP port; devices are expected at the same one.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1), extend("x-destination" = true))]
    pub port: u16,
    /// The address to which is sent what all are to hear. That of the interface when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<Ipv4Text>", extend("x-advanced" = true, "x-destination" = true))]
    pub broadcast: Option<Ipv4Addr>,
    /// The broadcast management device of another network, whose broadcasts are to be heard: an IP address, with the port where that
    /// is another. We register there as a foreign device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true, "x-destination" = true))]
    pub bbmd: Option<HostPort>,
    /// For how long we register there; that is renewed at half of it.
    #[serde(default = "default_registration", skip_serializing_if = "is_default_registration")]
    #[schemars(extend("x-advanced" = true, "default" = "5min"))]
    pub registration: Span,
    /// The instance of our own device object, by which others know us. Nobody is told who we are when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(max = 4_194_302), extend("x-advanced" = true))]
    pub instance: Option<u32>,
    /// Without this password, nobody can have us begin nothing of ourselves; nobody at all where there is none. Polls go on in any
    /// case. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub control_password: Option<SecretText>,
    /// How long an answer may take.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How many requests may be under way at a time to the devices of one network behind a router, whose line is slow.
    #[serde(default = "default_per_network", skip_serializing_if = "is_default_per_network")]
    #[schemars(range(min = 1, max = 16), extend("x-advanced" = true, "default" = 2))]
    pub requests_per_network: u8,
}

/// An IP address, with a port or without.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct HostPort {
    /// The address.
    pub host: Ipv4Addr,
    /// The port, where it is said.
    pub port: Option<u16>,
}

/// A text that is no [`HostPort`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no IP address with or without a port")]
pub struct ParseHostPortError(String);

impl HostPort {
    /// What a file should say, for messages.
    pub const FORM: &str = "an IP address as 10.20.0.40, with a port as 10.20.0.40:47809";

    /// With the port that holds where none is said.
    #[must_use]
    pub const fn or_port(self, port: u16) -> SocketAddrV4 {
        let port = match self.port {
            Some(port) => port,
            None => port,
        };
        SocketAddrV4::new(self.host, port)
    }
}

impl FromStr for HostPort {
    type Err = ParseHostPortError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = || ParseHostPortError(text.to_owned());
        let (host, port) = match text.trim().split_once(':') {
            Some((host, port)) => (host, Some(port.parse().ok().filter(|port| *port != 0).ok_or_else(error)?)),
            None => (text.trim(), None),
        };
        Ok(Self { host: host.parse().map_err(|_| error())?, port })
    }
}

impl fmt::Display for HostPort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.host)?;
        self.port.map_or(Ok(()), |port| write!(f, ":{port}"))
    }
}

text_type!(HostPort, "HostPort", "host-port");

/// An IP address in a file.
struct Ipv4Text;

text_schema!(Ipv4Text, "Ipv4Text", "ipv4-address");

impl BacnetIpLink {
    /// The words in the files, and what people call them.
    pub(in crate::description) const KINDS: [(&str, &str); 1] = [("bacnet-ip", "BACnet/IP")];

    /// Where it leads, for people: from where it speaks.
    #[must_use]
    pub fn target(&self) -> String {
        match &self.bbmd {
            None => format!("{}:{}", self.interface, self.port),
            Some(bbmd) => format!("{}:{} by {bbmd}", self.interface, self.port),
        }
    }

    /// What its keys have against each other.
    pub(in crate::description) fn fault(&self) -> Option<Fault> {
        let seconds = self.registration.as_millis() / 1000;
        if self.bbmd.is_some() && !(10..=65_535).contains(&seconds) {
            return Some(Fault::new("registration", format!("it is {}", self.registration), "10s to 18h"));
        }
        None
    }
}

const fn default_port() -> u16 {
    47_808
}

const fn default_registration() -> Span {
    Span::from_millis(300_000)
}

fn is_default_registration(span: &Span) -> bool {
    *span == default_registration()
}

const fn default_timeout() -> Span {
    Span::from_millis(3000)
}

const fn default_per_network() -> u8 {
    2
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_default_per_network(count: &u8) -> bool {
    *count == default_per_network()
}
