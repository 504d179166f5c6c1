//! The field floor: one task a link, which connects, asks, supervises its devices, and tells what is worth telling.
//!
//! ```text
//! device ⇄ driver ─ batch ─▶ Pipeline ─┬─▶ LatestTable ──▶ everybody
//!          (one per link)              ├─▶ RecentValues
//!                                      └─▶ Listeners ──▶ uplinks and whoever else wants events
//! ```
//!
//! Rooms, each importing from those behind it only: a folder for each protocol (`modbus`) → `poll`, `link`. What it leaves
//! out: brokers, people, and where descriptions are stored.

mod error;
mod link;
mod listeners;
mod modbus;
mod poll;
mod start;
mod words;

pub use error::TrialError;
pub use link::{
    Bar, CountsView, DeviceCounts, FrameFilter, FrameView, HistogramView, LinkHandle, LinkStatistics, Memories,
    OfferRequest, OfferSource, PointWrite, RateView, RefusalCount, RequestView, Surroundings, TrialAlternative,
    TrialRead, TrialReading, Via, WriteError, WriteOutcome,
};
pub use listeners::Listeners;
pub use modbus::{IdentityObject, TrialIdentity};
pub use start::{Offering, identify, read, sources, start, write};
pub use words::reason_words;
