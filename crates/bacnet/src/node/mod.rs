//! One participant of a network, without I/O.

mod client;
mod event;
mod foreign;
mod invoke_ids;
mod machine;
mod segments;
mod server;

pub use event::{Answer, AskedId, Audience, Failure, NodeEvent, NotSent, RequestId, Target, Terms, Via};
pub use foreign::ForeignDevice;
pub use machine::{Node, NodeConfig};
