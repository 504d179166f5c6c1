//! What is asked for of uplinks and brokers.

use super::{GatewayTarget, Output, Target};
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct TapArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// The gateway; needed when there are several
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// The uplink; the first one when left out
    #[arg(long)]
    pub(crate) uplink: Option<String>,
    /// Which topics, with + and # for any level; those of the uplink when left out
    #[arg(long)]
    pub(crate) filter: Option<String>,
    /// End after so many messages
    #[arg(long)]
    pub(crate) count: Option<u64>,
    /// Lines for people, or a JSON object a line
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

#[derive(Debug, Args)]
pub(crate) struct MessagesArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// The uplink, of kind json
    pub(crate) uplink: String,
}

#[derive(Debug, Args)]
pub(crate) struct CertificateArguments {
    #[command(subcommand)]
    pub(crate) command: CertificateCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CertificateCommand {
    /// Make a private key and a certificate request on this machine, without asking any service. Files that are there already
    /// are not touched.
    Request {
        /// Whom the certificate is for (common name), such as works-1
        name: String,
        /// Organization
        #[arg(long)]
        organization: Option<String>,
        /// Where the private key goes; NAME.key when left out
        #[arg(long)]
        key: Option<PathBuf>,
        /// Where the request goes; NAME.csr when left out
        #[arg(long)]
        request: Option<PathBuf>,
    },
}

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct BufferArguments {
    #[command(subcommand)]
    pub(crate) command: Option<BufferCommand>,
    #[command(flatten)]
    pub(crate) target: Target,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

#[derive(Debug, Subcommand)]
pub(crate) enum BufferCommand {
    /// Show where samples are missing at the broker of an uplink, and why.
    Gaps {
        #[command(flatten)]
        of: GatewayTarget,
        /// The uplink
        uplink: String,
    },
    /// Throw away everything that waits for the broker of an uplink. It cannot be undone.
    Purge {
        #[command(flatten)]
        of: GatewayTarget,
        /// The uplink
        uplink: String,
        /// The name of the uplink once more, to show that you mean it
        #[arg(long)]
        confirm: String,
    },
}
