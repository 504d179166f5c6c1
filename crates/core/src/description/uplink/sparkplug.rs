use crate::description::{Name, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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

fn default_host_keep_alive() -> Span {
    Span::from_millis(60_000)
}

fn default_host_grace() -> Span {
    Span::from_millis(60_000)
}

fn default_health() -> Span {
    Span::from_millis(30_000)
}
