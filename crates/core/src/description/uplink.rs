//! What every uplink has, and what those of each kind have.

use super::selection::Selection;
use super::settings::{is_false, text_schema, text_type};
use super::{Name, SecretText, Span};
use crate::{CommandMapping, Report};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

/// One connection to a broker, and what is said over it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Uplink {
    /// What it is called, and where it leads.
    pub settings: UplinkSettings,
    /// What is said.
    pub kind: UplinkKind,
    /// How the broker is talked to.
    pub broker: BrokerSettings,
    /// What is kept until the broker has it.
    pub journal: JournalSettings,
}

/// What is said over an uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UplinkKind {
    /// Sparkplug B.
    Sparkplug(SparkplugUplink),
    /// Messages made from templates.
    Json(JsonUplink),
}

/// The name of an uplink and where it leads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct UplinkSettings {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// The broker.
    pub url: BrokerUrl,
}

/// What a Sparkplug B edge node has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SparkplugUplink {
    /// Sparkplug group id.
    pub group: Name,
    /// Sparkplug edge node id. Group and node together are unique in the whole installation.
    pub node: Name,
    /// The host id of the primary host: while its STATE is not online, everything waits in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub primary_host: Option<Name>,
    /// How long history is held back after a broken connection, when the STATE that the broker has kept is no newer than
    /// the break, and the host asks for nothing.
    #[serde(default = "default_host_grace")]
    #[schemars(extend("x-advanced" = true))]
    pub host_grace: Span,
    /// The longest keep-alive of the primary host's own connection to the broker. A broker that was frozen may read what the
    /// node has to say before it finds that the host is gone: so what it has read counts as delivered one and a half times
    /// this span later, and is sent again when the host turns out to be away. Too short loses samples when a broker freezes;
    /// too long keeps samples in the journal for longer.
    #[serde(default = "default_host_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub host_keep_alive: Span,
    /// How often the gateway tells how it is: as metrics of the node.
    #[serde(default = "default_health")]
    #[schemars(extend("x-advanced" = true))]
    pub health: Span,
}

/// What messages made from templates have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct JsonUplink {
    /// Where messages go: text with {{ device.name }} and the like in it.
    #[schemars(length(min = 1))]
    pub topic: String,
    /// What one message is about.
    #[serde(default)]
    pub message_per: MessagePer,
    /// What messages say: text with {{ values | tojson }} and the like in it.
    #[serde(default = "default_payload")]
    #[schemars(extend("x-lines" = true, "x-wide" = true))]
    pub payload: String,
    /// When a message goes: on change of one of its points, at a period, or both.
    #[serde(default)]
    pub send: Report,
    /// How long changes are gathered for one message.
    #[serde(default = "default_gather")]
    #[schemars(extend("x-advanced" = true))]
    pub gather: Span,
    /// MQTT quality of service.
    #[serde(default = "default_qos")]
    #[schemars(range(min = 0, max = 2))]
    pub qos: u8,
    /// Whether the broker keeps the last message of each topic.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("default" = false))]
    pub retain: bool,
    /// Where commands come from, with + and # for any level; they need commands = true.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub command_topic: Option<String>,
    /// Where it is told what became of commands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub reply_topic: Option<String>,
    /// Where a command has its device: a JSON pointer, or topic:2 for the third level of the topic.
    #[serde(default = "default_command_device")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_device: String,
    /// Where a command has its point.
    #[serde(default = "default_command_point")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_point: String,
    /// Where a command has its value.
    #[serde(default = "default_command_value")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_value: String,
    /// Where a command has what the reply repeats.
    #[serde(default = "default_command_id")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_id: String,
}

/// What one message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MessagePer {
    /// All points of the gateway.
    Gateway,
    /// The points of a device.
    #[default]
    Device,
    /// The points with a label.
    Label,
    /// One point.
    Point,
}

impl JsonUplink {
    /// Where commands have their parts.
    #[must_use]
    pub fn mapping(&self) -> CommandMapping {
        CommandMapping {
            device: self.command_device.clone(),
            point: self.command_point.clone(),
            value: self.command_value.clone(),
            id: self.command_id.clone(),
        }
    }
}

fn default_payload() -> String {
    "{\"time\": {{ time | tojson }}, \"values\": {{ values | tojson }}}".to_owned()
}

fn default_gather() -> Span {
    Span::from_millis(200)
}

const fn default_qos() -> u8 {
    1
}

fn default_command_device() -> String {
    "/device".to_owned()
}

fn default_command_point() -> String {
    "/point".to_owned()
}

fn default_command_value() -> String {
    "/value".to_owned()
}

fn default_command_id() -> String {
    "/id".to_owned()
}

/// How a broker is talked to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BrokerSettings {
    /// Other brokers, with commas between them, that are tried in this order when those before cannot be reached or do
    /// not have the primary host. User, password and certificates are the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub fallbacks: Option<BrokerUrls>,
    /// How often an earlier broker is tried again while a later one is in use.
    #[serde(default = "default_return_after")]
    #[schemars(extend("x-advanced" = true))]
    pub return_after: Span,
    /// Name to sign in to the broker with, where it asks for one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub user: Option<String>,
    /// Password to sign in to the broker with. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// Certificates, in PEM, of the authorities that may have signed the broker's certificate; those that the system
    /// trusts when left out; or file:/PATH, read by the service. For mqtts only, as are the next three.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<CertificatesText>", extend("x-lines" = true))]
    pub ca: Option<String>,
    /// The certificate to show to the broker, in PEM, with what leads to its authority; or file:/PATH.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<CertificatesText>", extend("x-lines" = true))]
    pub certificate: Option<String>,
    /// The private key of that certificate, in PEM, or file:/PATH. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-lines" = true))]
    pub key: Option<SecretText>,
    /// The name that the broker's certificate has to be for, where it is not the host of the URL.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub server_name: Option<String>,
    /// Whether hosts may command the points that can be written. Every command is checked as those of people are, read
    /// back, and kept in the audit trail.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("default" = false))]
    pub commands: bool,
    /// Which points go up: all when left out. Words such as device:meter-* unit:kW label:billing name:power*; each kind of
    /// word must hold, with commas one of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub select: Option<Selection>,
    /// The version of MQTT.
    #[serde(default)]
    #[schemars(extend("x-advanced" = true))]
    pub mqtt: MqttVersion,
    /// MQTT client id; made from group and node, or gateway and uplink, when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub client_id: Option<String>,
    /// How long the connection may be silent, in whole seconds. The broker publishes the node's death after one
    /// and a half of it.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
}

/// A version of MQTT.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub enum MqttVersion {
    /// MQTT 3.1.1.
    #[default]
    #[serde(rename = "3.1.1")]
    V3,
    /// MQTT 5.0.
    #[serde(rename = "5")]
    V5,
}

/// What is kept until the broker has proved to have read it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct JournalSettings {
    /// How long a sample that the broker has not proved to have read may wait before it is written to the database: what
    /// a sudden end of the program may cost.
    #[serde(default = "default_journal_flush")]
    #[schemars(extend("x-advanced" = true))]
    pub journal_flush: Span,
    /// Samples that have waited for longer are lost.
    #[serde(default = "default_keep_for")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_for: Span,
    /// The most megabytes that may wait in the database; beyond, samples are lost.
    #[serde(default = "default_keep_megabytes")]
    #[schemars(range(min = 1, max = 1_000_000), extend("x-advanced" = true))]
    pub keep_megabytes: u32,
    /// Which samples are lost when there is no more room.
    #[serde(default)]
    #[schemars(extend("x-advanced" = true))]
    pub when_full: WhenFull,
    /// The share of the time, in percent, in which what has waited may use the connection beside what is new.
    #[serde(default = "default_history_share")]
    #[schemars(range(min = 1, max = 100), extend("x-advanced" = true))]
    pub history_share: u8,
}

/// Which samples are lost when there is no more room.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenFull {
    /// The oldest: the way to now is known.
    #[default]
    LoseOldest,
    /// The newest: how it began is known.
    LoseNewest,
}

impl Uplink {
    /// The MQTT client id: its own, or the one made from group and node, or from gateway and uplink.
    #[must_use]
    pub fn mqtt_client_id(&self, gateway: &str) -> String {
        self.broker.client_id.clone().unwrap_or_else(|| match &self.kind {
            UplinkKind::Sparkplug(own) => format!("{}-{}", own.group, own.node),
            UplinkKind::Json(_) => format!("{gateway}-{}", self.settings.name),
        })
    }

    /// The brokers, in the order in which they are tried.
    pub fn urls(&self) -> impl Iterator<Item = &BrokerUrl> {
        let fallbacks = self.broker.fallbacks.iter().flat_map(|fallbacks| &fallbacks.0);
        std::iter::once(&self.settings.url).chain(fallbacks)
    }

    /// The same uplink, with one of its brokers in the first place.
    #[must_use]
    pub fn at(&self, broker: usize) -> Self {
        let url = self.urls().nth(broker).unwrap_or(&self.settings.url).clone();
        Self { settings: UplinkSettings { url, ..self.settings.clone() }, ..self.clone() }
    }

    /// The name that the broker's certificate has to be for.
    #[must_use]
    pub fn server_name(&self) -> &str {
        self.broker.server_name.as_deref().unwrap_or_else(|| self.settings.url.bare_host())
    }

    /// The word of its kind.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self.kind {
            UplinkKind::Sparkplug(_) => "sparkplug",
            UplinkKind::Json(_) => "json",
        }
    }
}

fn default_host_keep_alive() -> Span {
    Span::from_millis(60_000)
}

fn default_host_grace() -> Span {
    Span::from_millis(60_000)
}

fn default_health() -> Span {
    Span::from_millis(30_000)
}

fn default_return_after() -> Span {
    Span::from_millis(300_000)
}

fn default_keep_alive() -> Span {
    Span::from_millis(15_000)
}

fn default_journal_flush() -> Span {
    Span::from_millis(500)
}

fn default_keep_for() -> Span {
    Span::from_millis(7 * 86_400_000)
}

const fn default_keep_megabytes() -> u32 {
    2048
}

const fn default_history_share() -> u8 {
    50
}

/// Several [`BrokerUrl`]s with commas between them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BrokerUrls(pub Vec<BrokerUrl>);

impl BrokerUrls {
    /// What a file should say, for messages.
    pub const FORM: &str = "mqtt://HOST or mqtts://HOST, with or without :PORT, with commas between several";
}

impl FromStr for BrokerUrls {
    type Err = ParseBrokerUrlError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        text.split(',').map(|url| BrokerUrl::try_from(url.trim().to_owned())).collect::<Result<_, _>>().map(Self)
    }
}

impl fmt::Display for BrokerUrls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let urls: Vec<_> = self.0.iter().map(ToString::to_string).collect();
        f.write_str(&urls.join(", "))
    }
}

/// `mqtt://host`, `mqtts://host` for TLS, or the same with a port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct BrokerUrl {
    /// Host name or address.
    pub host: String,
    /// TCP port; 1883 when left out, 8883 with TLS.
    pub port: u16,
    /// Whether the connection is encrypted and the broker has to prove who it is.
    pub is_tls: bool,
}

/// A text that is no [`BrokerUrl`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the URL of a broker")]
pub struct ParseBrokerUrlError(String);

impl BrokerUrl {
    /// What a file should say, for messages.
    pub const FORM: &str = "mqtt://HOST, or mqtts://HOST for TLS, with or without :PORT";

    /// Source: IANA, Service Name and Transport Protocol Port Number Registry, mqtt and secure-mqtt.
    const fn default_port(is_tls: bool) -> u16 {
        if is_tls { 8883 } else { 1883 }
    }

    /// The host without the brackets of an IPv6 address.
    #[must_use]
    pub fn bare_host(&self) -> &str {
        self.host.trim_start_matches('[').trim_end_matches(']')
    }

    fn parse(text: &str) -> Option<Self> {
        let (scheme, authority) = text.split_once("://")?;
        let is_tls = match scheme {
            "mqtt" => false,
            "mqtts" => true,
            _ => return None,
        };
        let authority = authority.strip_suffix('/').unwrap_or(authority);
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) if !port.ends_with(']') => (host, port.parse().ok()?),
            _ => (authority, Self::default_port(is_tls)),
        };
        let odd = |c: char| c.is_whitespace() || matches!(c, '/' | '@' | '?' | '#');
        let bracketed = host.starts_with('[') && host.ends_with(']');
        let valid = !host.is_empty() && !host.contains(odd) && port > 0 && (bracketed || !host.contains(':'));
        valid.then(|| Self { host: host.to_owned(), port, is_tls })
    }
}

impl TryFrom<String> for BrokerUrl {
    type Error = ParseBrokerUrlError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        Self::parse(&text).ok_or(ParseBrokerUrlError(text))
    }
}

impl From<BrokerUrl> for String {
    fn from(url: BrokerUrl) -> Self {
        url.to_string()
    }
}

impl fmt::Display for BrokerUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = if self.is_tls { "mqtts" } else { "mqtt" };
        write!(f, "{scheme}://{}", self.host)?;
        if self.port == Self::default_port(self.is_tls) { Ok(()) } else { write!(f, ":{}", self.port) }
    }
}

text_schema!(BrokerUrl, "BrokerUrl", "broker-url");
text_type!(BrokerUrls, "BrokerUrls", "broker-urls");
text_type!(Selection, "Selection", "selection");

/// How certificates look in the schema.
struct CertificatesText;

text_schema!(CertificatesText, "CertificatesText", "certificates");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn broker_urls_are_read_with_care() {
        let read = |text: &str| BrokerUrl::parse(text).map(|url| url.to_string());
        assert_eq!(read("mqtt://broker.example").as_deref(), Some("mqtt://broker.example"));
        assert_eq!(read("mqtt://broker.example:1884/").as_deref(), Some("mqtt://broker.example:1884"));
        assert_eq!(read("mqtt://[::1]:1884").as_deref(), Some("mqtt://[::1]:1884"));
        assert_eq!(read("mqtt://[::1]").as_deref(), Some("mqtt://[::1]"));
        assert_eq!(read("mqtts://broker.example:8883").as_deref(), Some("mqtts://broker.example"));
        assert_eq!(read("mqtts://broker.example:1883").as_deref(), Some("mqtts://broker.example:1883"));
        for wrong in [
            "",
            "broker",
            "http://broker",
            "mqtt://",
            "mqtt://:1883",
            "mqtt://b:0",
            "mqtt://b:x",
            "mqtt://b:70000",
            "mqtt://a b",
            "mqtt://b/topic",
            "mqtt://u@b",
            "mqtt://::1",
        ] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
