//! Sparkplug B for edge nodes: payloads, topics, rules, and the session as a state machine without I/O.
//!
//! ```text
//!  device_up / device_down / data        poll_transmit()
//!  ─────────────────────────────▶ EdgeNode ─────────────▶ messages for the MQTT client
//!  ◀───────────────────────────── (machine) ◀──────────── connected, subscribed, commands, lost
//!          poll_event()
//! ```
//!
//! Follows the *Sparkplug Specification 3.0.0*. What it leaves out: the MQTT connection itself, stored data, and host
//! applications, but for the STATE that it may wait for.
//!
//! ```
//! use interlex_sparkplug::Topic;
//!
//! let topic: Topic = "spBv1.0/alderfen/DDATA/works-1/gas-analyser".parse()?;
//! assert_eq!(topic.device.as_deref(), Some("gas-analyser"));
//! # Ok::<(), interlex_sparkplug::ParseTopicError>(())
//! ```

mod carried;
mod data_type;
mod device;
mod edge_node;
mod metric;
mod primary_host;
pub mod proto;
mod rules;
mod topic;
mod weight;

pub use carried::array_elements;
pub use data_type::DataType;
pub use device::{Datum, DeviceSpec, MetricProperties, MetricSpec, Snapshot, Snapshots, Standing};
pub use edge_node::{EdgeNode, EdgeNodeEvent, NotSent, Outgoing, Will};
pub use metric::{MetricQuality, MetricValue, ValueError, decode_command, decode_value, encode_value};
pub use primary_host::HostState;
pub use proto::Payload;
pub use rules::{RuleError, check_payload};
pub use topic::{MessageType, NAMESPACE, ParseTopicError, Topic, is_valid_id};

/// Why a payload is not read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DecodeError {
    /// The bytes are no protobuf of the Sparkplug B schema.
    #[error(transparent)]
    Malformed(#[from] prost::DecodeError),
    /// Few bytes that would take very much memory.
    #[error("it would take {} kB of memory; {} are taken", .bytes >> 10, .most >> 10)]
    TooMuch {
        /// How many bytes of memory, about.
        bytes: usize,
        /// How many it may take.
        most: usize,
    },
}

/// What a payload may take in memory, about: a birth of a hundred thousand points. While it is read, lists that grow may take
/// twice as much.
const HEAVIEST: usize = 32 << 20;

/// Reads a payload. However it is made, few bytes do not take much memory.
///
/// # Errors
/// [`DecodeError`]
pub fn decode_payload(bytes: &[u8]) -> Result<Payload, DecodeError> {
    decode_within(bytes, HEAVIEST)
}

/// Reads a payload that may not take more bytes of memory than so many, about.
pub(crate) fn decode_within(payload: &[u8], most: usize) -> Result<Payload, DecodeError> {
    match weight::weight(payload) {
        bytes if bytes > most => Err(DecodeError::TooMuch { bytes, most }),
        _ => Ok(prost::Message::decode(payload)?),
    }
}

/// Writes a payload, fields in ascending order.
#[must_use]
pub fn encode_payload(payload: &Payload) -> Vec<u8> {
    prost::Message::encode_to_vec(payload)
}
