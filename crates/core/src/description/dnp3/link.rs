use crate::description::Span;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A TCP connection to an outstation, or to several behind one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Dnp3Link {
    /// Host name or IP address.
    #[schemars(length(min = 1), extend("x-destination" = true))]
    pub host: String,
    /// TCP port.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1), extend("x-destination" = true))]
    pub port: u16,
    /// How long an answer may take.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long the connection may take to come up.
    #[serde(default = "default_connect_timeout")]
    #[schemars(extend("x-advanced" = true))]
    pub connect_timeout: Span,
    /// The longest wait between two attempts to connect; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
    /// How often everybody is asked for events at the least, so that one who has gone is missed.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
}

impl Dnp3Link {
    /// The words in the files, and what people call them.
    pub(in crate::description) const KINDS: [(&str, &str); 1] = [("dnp3-tcp", "DNP3 over TCP")];

    /// Where it leads.
    #[must_use]
    pub fn target(&self) -> String {
        if self.host.contains(':') {
            format!("[{}]:{}", self.host, self.port)
        } else {
            format!("{}:{}", self.host, self.port)
        }
    }
}

const fn default_port() -> u16 {
    20_000
}

const fn default_timeout() -> Span {
    Span::from_millis(5000)
}

const fn default_connect_timeout() -> Span {
    Span::from_millis(5000)
}

const fn default_reconnect_limit() -> Span {
    Span::from_millis(30_000)
}

const fn default_keep_alive() -> Span {
    Span::from_millis(10_000)
}
