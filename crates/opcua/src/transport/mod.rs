//! UA-TCP: frames, and the messages that open a connection.
//!
//! Source: OPC 10000-6, sections 6.7.2 and 7.1.

mod frame;
mod hello;
mod security_header;

pub(crate) use frame::begin_frame;
pub use frame::{ChunkType, Frame, FrameDecoder, FrameError, MessageType, encode_frame};
pub use hello::{Acknowledge, ErrorMessage, Hello, ReverseHello};
pub use security_header::{AsymmetricHeader, SequenceHeader};
