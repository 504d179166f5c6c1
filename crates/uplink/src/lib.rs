//! The broker floor: one session for each uplink, with what waits for its broker.
//!
//! ```text
//! FieldEvent ─▶ UplinkTask ─┬─ SparkplugNode ─▶ births, data, deaths ─┐
//!               (session)   └─ JsonMessages ──▶ rendered messages ────┴─▶ Connection ─▶ broker ─▶ Tap
//!                   │                                                        │
//!                   └─ Backlog: memory, journal ◀──────── proofs ────────────┘
//! ```
//!
//! Each uplink gets what the field side tells by a queue of its own, and hands commands back by [`BrokerCommands`]. What it
//! leaves out: the field, the running gateway, and who carries commands out.
//!
//! Rooms, each importing from those behind it only: `sparkplug`, `json` → `session` → `buffer`, `mqtt`; `tap` → `sparkplug`.

mod buffer;
mod command;
mod json;
mod mqtt;
mod request;
mod session;
mod sparkplug;
mod start;
mod tap;

#[cfg(fuzzing)]
pub use buffer::read_any_block;
pub use command::{Asker, BrokerCommand, BrokerCommands, COMMAND_QUEUE, CommandResult, FromBroker};
pub use json::{SentMessage, fill_templates_in, fill_templates_with, preview};
pub use mqtt::{
    Connection, Intake, Message, MqttEvent, NoRoom, Will, allow_files_in, client_config, tls_words, with_files,
};
pub use request::{Published, REQUEST_QUEUE, UplinkRequest, WouldLose};
pub use start::{EVENT_QUEUE, LinkHealth, ReasonWords, UplinkStart, initial_status, start};
pub use tap::{Tap, TapError, TapMessage, TapMetric};
