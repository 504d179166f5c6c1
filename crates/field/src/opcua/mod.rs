//! OPC UA servers: how they are reached and trusted, what is watched of them, how values are read and written, what they offer.

mod connect;
mod describing;
mod dictionaries;
mod discovery;
mod driver;
mod endpoint;
mod errand;
mod facts;
mod frames;
mod group;
mod locate;
mod mapping;
mod memory;
mod node_set;
mod nodes;
mod part;
mod poller;
mod reach;
mod semantics;
mod telling;
mod trust;
mod words;

pub(crate) use discovery::{Discovery, discovery, sources};
pub(crate) use driver::OpcUaDriver;
pub(crate) use words::of as words;
