//! MQTT of both versions, and TLS below it.

mod connection;
mod files;
mod tls;

pub use connection::{Connection, Intake, Message, MqttEvent, NoRoom, Will};
pub use files::allow_files_in;
pub(crate) use tls::valid_until;
pub use tls::{client_config, tls_words, with_files};
