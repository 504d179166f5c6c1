//! What people, brokers and lifetimes want of points.

mod broker_commands;
mod commands;
mod lifetimes;

pub(crate) use broker_commands::carry_out_broker_commands;
pub use commands::Commands;
pub(crate) use lifetimes::Lifetimes;
