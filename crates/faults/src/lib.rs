//! The two ends of a fault run, and what goes wrong between them.
//!
//! ```text
//! CountingPlant ──▶ gateway ──▶ BreakableLine ──▶ broker ──▶ Recorder
//!       └──────────── what was read, compared with what arrived: Verdict ◀──┘
//! ```
//!
//! Tests and the bench use it; nothing that runs on a plant does.

mod line;
mod plant;
mod recorder;
mod verdict;

pub use line::BreakableLine;
pub use plant::CountingPlant;
pub use recorder::{Arrival, Recorder};
pub use verdict::Verdict;
