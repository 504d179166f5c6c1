//! Messages made from templates, over plain MQTT.

mod commands;
mod fill;
mod groups;
mod message;
mod messages;
mod outbound;

pub use fill::{fill_templates_in, fill_templates_with};
pub use message::{SentMessage, preview};
pub(crate) use messages::JsonMessages;
