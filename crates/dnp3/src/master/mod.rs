//! The master of one outstation, as a state machine.

mod command;
mod config;
mod event;
mod link;
mod machine;
mod receive;
mod startup;
mod time;

pub use config::{Assignments, Classes, MasterConfig, TimeSync};
pub use event::{Command, CommandAnswer, CommandId, Doubt, MasterEvent, Now, Refusal, Told, ToldId};
pub use link::{LinkEvent, MasterLink, Sharing, TracedFrame, WayId};
pub use machine::Master;
