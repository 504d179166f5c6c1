//! From one description to the next: only what differs is touched.

mod outcome;
mod tasks;

pub(crate) use outcome::Activation;
pub use outcome::{LinkOutcome, Outcome, Progress, UplinkOutcome};
pub(crate) use tasks::{Parts, Tasks};
