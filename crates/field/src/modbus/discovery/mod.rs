//! What a Modbus device tells of itself: which units and addresses there are, who it is, its SunSpec models.

mod identify;
mod scan;
mod sunspec;

pub use identify::{IdentityObject, TrialIdentity, identify};
pub use scan::{Scan, ScanEvent};
pub use sunspec::{SunSpecModelView, SunSpecOffer, sunspec};
