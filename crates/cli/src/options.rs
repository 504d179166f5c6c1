//! Options that several commands have.

use clap::{Args, ValueEnum};
use interlex_core::description::Span;
use std::net::Ipv4Addr;

/// An address that nobody outside this machine reaches.
pub(crate) fn loopback(text: &str) -> Result<Ipv4Addr, String> {
    let address = text.parse().ok().filter(Ipv4Addr::is_loopback);
    address.ok_or_else(|| "expected an address of loopback, such as 127.0.0.1".to_owned())
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Output {
    /// A table for people.
    Table,
    /// JSON.
    Json,
    /// Comma-separated values.
    Csv,
}

/// Which service to ask.
#[derive(Debug, Args)]
pub(crate) struct Target {
    /// The service, when not the one signed in to
    #[arg(long, env = "INTERLEX_URL", global = true)]
    pub(crate) url: Option<String>,
    /// A token, when not the one of the sign-in
    #[arg(long, env = "INTERLEX_TOKEN", hide_env_values = true, global = true)]
    pub(crate) token: Option<String>,
}

/// Which gateway, of which service.
#[derive(Debug, Args)]
pub(crate) struct GatewayTarget {
    #[command(flatten)]
    pub(crate) target: Target,
    /// The gateway; needed when there are several
    #[arg(long, global = true)]
    pub(crate) gateway: Option<String>,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub(crate) output: Output,
}

/// A span such as 500ms, 2s or 1h.
pub(crate) fn span_of_time(text: &str) -> Result<Span, String> {
    text.parse().map_err(|_| format!("expected {}", Span::FORM))
}
