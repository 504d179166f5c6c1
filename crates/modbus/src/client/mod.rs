//! The client as a state machine.

mod config;
mod event;
mod machine;
mod receive;
mod stats;

pub use config::ClientConfig;
pub use event::{Busy, Event, RequestError, RequestId};
pub use machine::Client;
pub use stats::ClientStats;
