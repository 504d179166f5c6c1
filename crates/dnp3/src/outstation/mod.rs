//! The outstation, as a state machine.

mod config;
mod event_buffer;
mod machine;
mod point;
mod reading;
mod requests;
mod session;

pub use config::{EventClass, OutstationConfig, Process};
pub use machine::Outstation;
pub use point::{Point, PointUpdate};
