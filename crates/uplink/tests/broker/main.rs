//! An uplink from what the field side tells to what a host hears at a real broker.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod births;
mod brokers;
mod hostile;
mod hosts;
mod messages;
mod rig;
