//! What every link, device, point and uplink has, whatever its protocol.

use super::{Holes, Name, PointName, SecretText, Span};
use crate::{ByteOrder, DataType, Enumeration, Report, Shaping, TwoEndedSpan};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// The gateway itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct GatewaySettings {
    /// Its name, unique in the service.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
}

/// A named sampling period: in the files a line of `[rates]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RateSettings {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// How often the points that name it are read.
    pub period: Span,
}

/// What every link has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LinkSettings {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
}

/// What every device has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DeviceSettings {
    /// Its name, unique in the gateway; on Sparkplug the device id.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// The link it is reached through.
    #[schemars(extend("x-refers" = "link"))]
    pub link: Name,
    /// The file with its point list, relative to gateway.toml; several devices may use one. When left out, the
    /// list is called after the device: points/NAME.csv.
    #[serde(default)]
    #[schemars(extend("format" = "list-path"))]
    pub points: String,
}

/// Whether a point can be commanded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// It is only read.
    #[default]
    Read,
    /// It is read and written.
    ReadWrite,
}

/// One row of a point list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PointSettings {
    /// Its name, unique in the device.
    pub name: PointName,
    /// Where it lives, in the words of the device's protocol.
    pub address: String,
    /// How the device represents it.
    #[serde(rename = "type", default)]
    pub data_type: DataType,
    /// In which order the bytes stand in the registers.
    #[serde(default)]
    pub order: ByteOrder,
    /// Engineering value = raw × scale + offset.
    #[serde(default = "one")]
    pub scale: f64,
    /// Engineering value = raw × scale + offset.
    #[serde(default)]
    pub offset: f64,
    /// Whether the scale is multiplied with the ratio of the device.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub by_ratio: bool,
    /// In place of scale and offset: two ends of the raw value laid on two of the engineering value, such as
    /// 0..27648 -> -50..150.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub span: Option<TwoEndedSpan>,
    /// Whether values beyond the ends of the span are held at them.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub clamp: bool,
    /// Whether the square root is taken between the ends of the span: flow from a differential pressure.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub root: bool,
    /// Whether a bit is turned: 0 is on.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub invert: bool,
    /// Words for whole numbers, such as 0=stopped;1=running.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub enumeration: Option<Enumeration>,
    /// Unit of the engineering value.
    #[serde(default)]
    pub unit: String,
    /// The sampling period: a name from `[rates]`.
    #[schemars(extend("x-refers" = "rate"))]
    pub rate: Name,
    /// When its value goes up.
    #[serde(default)]
    pub report: Report,
    /// By how much it must move to go up on change, in engineering units.
    #[serde(default)]
    #[schemars(range(min = 0.0))]
    pub deadband: f64,
    /// Whether it can be commanded.
    #[serde(default)]
    pub access: Access,
    /// Engineering values below are doubtful.
    #[serde(default)]
    pub low: Option<f64>,
    /// Engineering values above are doubtful.
    #[serde(default)]
    pub high: Option<f64>,
    /// What people call it.
    #[serde(default)]
    pub title: String,
}

fn one() -> f64 {
    1.0
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_false(bit: &bool) -> bool {
    !*bit
}

impl PointSettings {
    /// From its raw to its engineering value, in a device with a ratio.
    #[must_use]
    pub fn shaping(&self, ratio: f64) -> Shaping {
        let scale = if self.by_ratio { self.scale * ratio } else { self.scale };
        match (self.span, &self.enumeration) {
            (Some(span), _) => Shaping::span(span, self.clamp, self.root),
            (None, Some(words)) => Shaping::words(words.clone()),
            (None, None) if self.invert => Shaping::invert(),
            (None, None) => Shaping::linear(scale, self.offset),
        }
    }
}

/// One connection to a Sparkplug B broker.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SparkplugUplink {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// The broker.
    pub url: BrokerUrl,
    /// Sparkplug group id.
    pub group: Name,
    /// Sparkplug edge node id. Group and node together are unique in the whole installation.
    pub node: Name,
    /// Name to sign in to the broker with, where it asks for one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub user: Option<String>,
    /// Password to sign in to the broker with. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// Certificates, in PEM, of the authorities that may have signed the broker's certificate; those that the system
    /// trusts when left out. For mqtts only, as are the next two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<CertificatesText>", extend("x-lines" = true))]
    pub ca: Option<String>,
    /// The certificate to show to the broker, in PEM, with what leads to its authority.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<CertificatesText>", extend("x-lines" = true))]
    pub certificate: Option<String>,
    /// The private key of that certificate, in PEM. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-lines" = true))]
    pub key: Option<SecretText>,
    /// Whether hosts may command the points that can be written. Every command is checked as those of people are, read
    /// back, and kept in the audit trail.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("default" = false))]
    pub commands: bool,
    /// MQTT client id; made from group and node when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub client_id: Option<String>,
    /// How long the connection may be silent, in whole seconds. The broker publishes the node's death after one
    /// and a half of it.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
    /// How long a sample that the broker has not proved to have read may wait before it is written to the database: what
    /// a sudden end of the program may cost.
    #[serde(default = "default_journal_flush")]
    #[schemars(extend("x-advanced" = true))]
    pub journal_flush: Span,
}

impl SparkplugUplink {
    /// The MQTT client id: its own, or the one made from group and node.
    #[must_use]
    pub fn mqtt_client_id(&self) -> String {
        self.client_id.clone().unwrap_or_else(|| format!("{}-{}", self.group, self.node))
    }
}

fn default_keep_alive() -> Span {
    Span::from_millis(15_000)
}

fn default_journal_flush() -> Span {
    Span::from_millis(500)
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

impl std::fmt::Display for BrokerUrl {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let scheme = if self.is_tls { "mqtts" } else { "mqtt" };
        write!(f, "{scheme}://{}", self.host)?;
        if self.port == Self::default_port(self.is_tls) { Ok(()) } else { write!(f, ":{}", self.port) }
    }
}

/// Types that are written as text in the files: serde by their own `FromStr` and `Display`.
macro_rules! text_type {
    ($type:ty, $name:literal, $format:literal) => {
        impl Serialize for $type {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = String::deserialize(deserializer)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }

        text_schema!($type, $name, $format);
    };
}

macro_rules! text_schema {
    ($type:ty, $name:literal, $format:literal) => {
        impl JsonSchema for $type {
            fn schema_name() -> Cow<'static, str> {
                $name.into()
            }

            fn inline_schema() -> bool {
                true
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "format": $format })
            }
        }
    };
}

text_type!(DataType, "DataType", "data-type");
text_type!(Report, "Report", "report");
text_type!(TwoEndedSpan, "TwoEndedSpan", "two-ended-span");
text_type!(Enumeration, "Enumeration", "enumeration");
text_type!(Holes, "Holes", "holes");
text_schema!(BrokerUrl, "BrokerUrl", "broker-url");

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
