use super::{BrokerUrl, BrokerUrls, JournalSettings, JsonUplink, SparkplugUplink};
use crate::description::selection::Selection;
use crate::description::settings::{is_false, part, text_schema, text_type};
use crate::description::{Name, SecretText, Span};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;

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

impl Uplink {
    /// Reads an uplink that the schema has found right.
    pub(in crate::description) fn read(object: &Value) -> Option<Self> {
        let kind = match object.get("kind").and_then(Value::as_str) {
            Some("json") => UplinkKind::Json(part(object)?),
            _ => UplinkKind::Sparkplug(part(object)?),
        };
        Some(Self { settings: part(object)?, kind, broker: part(object)?, journal: part(object)? })
    }

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

fn default_return_after() -> Span {
    Span::from_millis(300_000)
}

fn default_keep_alive() -> Span {
    Span::from_millis(15_000)
}

text_type!(Selection, "Selection", "selection");

/// How certificates look in the schema.
struct CertificatesText;

text_schema!(CertificatesText, "CertificatesText", "certificates");
