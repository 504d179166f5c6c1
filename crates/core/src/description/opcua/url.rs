use crate::description::settings::text_schema;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;

/// `opc.tcp://host`, with or without a port and a path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ServerUrl {
    /// Host name or address; an IPv6 address in brackets.
    pub host: String,
    /// TCP port; 4840 when left out.
    pub port: u16,
    /// What follows, from its `/` on; empty where nothing does.
    pub path: String,
}

/// A text that is no [`ServerUrl`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the URL of an OPC UA server")]
pub struct ParseServerUrlError(String);

/// Source: IANA, Service Name and Transport Protocol Port Number Registry, opcua-tcp.
const DEFAULT_PORT: u16 = 4840;

impl ServerUrl {
    /// What a file should say, for messages.
    pub const FORM: &str = "opc.tcp://HOST, with or without :PORT and a path";

    /// The host without the brackets of an IPv6 address.
    #[must_use]
    pub fn bare_host(&self) -> &str {
        self.host.trim_start_matches('[').trim_end_matches(']')
    }

    fn parse(text: &str) -> Option<Self> {
        let rest = text.trim().strip_prefix("opc.tcp://")?;
        let (authority, path) = rest.find('/').map_or((rest, ""), |at| rest.split_at(at));
        let (host, port) = match authority.rsplit_once(':') {
            Some((host, port)) if !port.ends_with(']') => (host, port.parse().ok()?),
            _ => (authority, DEFAULT_PORT),
        };
        let odd = |c: char| c.is_whitespace() || c.is_control() || matches!(c, '/' | '@' | '?' | '#');
        let bracketed = host.starts_with('[') && host.ends_with(']');
        let is_host = !host.is_empty() && !host.contains(odd) && port > 0 && (bracketed || !host.contains(':'));
        let is_path = !path.contains(|c: char| c.is_whitespace() || c.is_control());
        let path = if path == "/" { "" } else { path };
        (is_host && is_path).then(|| Self { host: host.to_owned(), port, path: path.to_owned() })
    }
}

impl TryFrom<String> for ServerUrl {
    type Error = ParseServerUrlError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        Self::parse(&text).ok_or(ParseServerUrlError(text))
    }
}

impl From<ServerUrl> for String {
    fn from(url: ServerUrl) -> Self {
        url.to_string()
    }
}

impl fmt::Display for ServerUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "opc.tcp://{}:{}{}", self.host, self.port, self.path)
    }
}

text_schema!(ServerUrl, "ServerUrl", "server-url");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn server_urls_are_read_with_care() {
        let read = |text: &str| ServerUrl::parse(text).map(|url| url.to_string());
        assert_eq!(read("opc.tcp://engine").as_deref(), Some("opc.tcp://engine:4840"));
        assert_eq!(read(" opc.tcp://engine:4841/ ").as_deref(), Some("opc.tcp://engine:4841"));
        assert_eq!(read("opc.tcp://[::1]:4840/UA/Server").as_deref(), Some("opc.tcp://[::1]:4840/UA/Server"));
        for wrong in
            ["", "engine", "opc.tcp:/engine", "http://engine", "opc.tcp://", "opc.tcp://:4840", "opc.tcp://a:0"]
        {
            assert_eq!(read(wrong), None, "{wrong}");
        }
        for wrong in
            ["opc.tcp://a:x", "opc.tcp://a:70000", "opc.tcp://a b", "opc.tcp://u@a", "opc.tcp://::1", "opc.tcp://a/b c"]
        {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
