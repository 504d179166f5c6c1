use crate::description::settings::{text_schema, text_type};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

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
