//! What waits for a broker: in memory, in the database, and how fast it follows.

mod backlog;
mod block;
mod estimate;
mod item;
mod journal;
mod ledger;
mod limits;
mod losses;
mod memory;
mod numbers;
mod pace;
mod past;
mod queue;
mod ranges;

pub(crate) use backlog::{Backlog, TICK};
pub(crate) use block::BlockError;
#[cfg(fuzzing)]
pub use block::read_any as read_any_block;
pub(crate) use item::Item;
pub(crate) use losses::NO_MESSAGE;
pub(crate) use numbers::PointNumbers;
pub(crate) use pace::Pace;
