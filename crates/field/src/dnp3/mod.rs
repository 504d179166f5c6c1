//! DNP3 outstations: how they are reached, what they tell, how they are commanded, and what they offer.

mod asking;
mod discovery;
mod driver;
mod errand;
mod events;
mod frames;
mod lines;
mod mapping;
mod profile;
mod station;
mod taking;
mod tls;
mod way;
mod words;

pub(crate) use discovery::{Discovery, discovery, sources};
pub(crate) use driver::Dnp3Driver;
pub(crate) use words::of as words;
