//! The session of an edge node as a state machine.

mod births;
mod commands;
mod event;
mod host;
mod machine;

pub use event::{EdgeNodeEvent, NotSent, Outgoing, Will};
pub use machine::EdgeNode;
