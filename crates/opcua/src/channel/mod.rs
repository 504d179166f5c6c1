//! The secure channel: messages in numbered frames, secured with keys that change.
//!
//! Source: OPC 10000-6, sections 6.7 and 7.1; OPC 10000-4, section 5.6.

mod assembler;
mod client;
mod conversation;
mod describe;
mod error;
mod limits;
mod opening;
mod sequence;
mod server;
mod splitter;
mod token;
mod trace;

pub use client::{ClientChannel, ClientChannelConfig, ClientChannelEvent, NotSent, RequestId};
pub use error::ChannelError;
pub use limits::TransportLimits;
pub use opening::Credentials;
pub use server::{ServerChannel, ServerChannelConfig, ServerChannelEvent};
pub use trace::TracedMessage;
