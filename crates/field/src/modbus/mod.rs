//! Modbus devices: what is asked when, how values are read and written, what devices tell of themselves.

mod connect;
mod discovery;
mod driver;
mod frames;
mod mapping;
mod one_off;
mod owed;
mod poll;
mod polling;
#[cfg(test)]
mod schedule_tests;
mod task;
mod trial;
mod words;
mod write;
mod writing;

pub use discovery::{
    IdentityObject, Scan, ScanEvent, SunSpecModelView, SunSpecOffer, TrialIdentity, identify, sunspec,
};
pub use one_off::Via;
pub use owed::OwedByTarget;
pub(crate) use task::LinkTask;
pub use trial::{TrialAlternative, TrialRead, TrialReading};
pub(crate) use words::exception as exception_words;
pub use write::{PointWrite, WriteError, WriteOutcome};
