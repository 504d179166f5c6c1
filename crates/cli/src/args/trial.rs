//! What is tried once.

use super::GatewayTarget;
use clap::{Args, Subcommand};

#[derive(Debug, Args)]
pub(crate) struct TrialArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    #[command(subcommand)]
    pub(crate) command: TrialCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TrialCommand {
    /// Read one value, and show what its registers say under every plausible type and order
    Read {
        /// A device of the draft
        device: String,
        /// Where the value lives, such as input:4 or 30005
        address: String,
        /// How the device is said to represent it
        #[arg(long = "type", default_value = "uint16")]
        data_type: String,
        /// In which order its bytes are said to stand
        #[arg(long, default_value = "ABCD")]
        order: String,
        /// Engineering value = raw × scale
        #[arg(long, default_value_t = 1.0, allow_negative_numbers = true)]
        scale: f64,
        /// What the device's own display shows: what comes near it is marked and stands first
        #[arg(long, allow_negative_numbers = true)]
        expect: Option<f64>,
    },
    /// Write one value, and read it back
    Write {
        /// A device of the draft
        device: String,
        /// Where the value lives, such as holding:4 or coil:2
        address: String,
        /// The engineering value: a number, true, false, or text
        #[arg(allow_negative_numbers = true)]
        value: String,
        /// How the device is said to represent it; bool where the address is that of a bit
        #[arg(long = "type")]
        data_type: Option<String>,
        /// In which order its bytes are said to stand
        #[arg(long, default_value = "ABCD")]
        order: String,
        /// Engineering value = raw × scale
        #[arg(long, default_value_t = 1.0, allow_negative_numbers = true)]
        scale: f64,
    },
    /// Go the way to a broker step by step: which one fails, and why
    Broker {
        /// An uplink of the draft
        uplink: String,
        /// Publish, too: a death that hosts pass over, or an empty message to the topic of the first message
        #[arg(long)]
        publish: bool,
    },
    /// Tell how many values the report settings of a device's points would send, by what was read in the last minutes
    Reports {
        /// A device of the draft
        device: String,
    },
    /// Make the messages of an uplink from the values that are there now, without sending any
    Messages {
        /// An uplink of the draft, of kind json
        uplink: String,
    },
    /// Ask a device who it is (function 43/14)
    Identify {
        /// A device of the draft
        device: String,
    },
    /// Find the SunSpec models of a device, and offer its points; as CSV it is a list that draft import takes
    Sunspec {
        /// A device of the draft
        device: String,
        /// The rate that the points are to be sampled at
        #[arg(long, default_value = "normal")]
        rate: String,
    },
    /// Look which units answer on a link, or which addresses a device has; Ctrl-C ends it
    Scan {
        /// A link of the draft: its units are looked for
        link: String,
        /// A device behind the link: its addresses are looked for, and not units
        #[arg(long)]
        device: Option<String>,
        /// The table whose addresses are looked for: coil, discrete, input or holding
        #[arg(long, default_value = "holding", requires = "device")]
        table: String,
        /// The first unit or address [default: unit 1, address 0]
        #[arg(long)]
        first: Option<u16>,
        /// The last unit or address [default: unit 247, address 999]
        #[arg(long)]
        last: Option<u16>,
        /// How many requests a second it may take
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=100))]
        per_second: u32,
    },
}
