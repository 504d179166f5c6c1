//! BACnet devices: where they are, what they tell, how they are commanded, and what they offer.

mod backfill;
mod binding;
mod described;
mod discovery;
mod driver;
mod ede;
mod ede_list;
mod endpoint;
mod errand;
mod frames;
mod interface;
mod item;
mod log_time;
mod many;
mod mapping;
mod memory;
mod remote;
mod rounds;
mod scan;
mod watching;
mod ways;
mod words;

pub(crate) use discovery::{Discovery, discovery, sources};
pub(crate) use driver::BacnetDriver;
pub use ede_list::{EdeList, ede_list};
pub(crate) use words::of as words;
