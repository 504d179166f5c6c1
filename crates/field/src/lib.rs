//! The field floor: one task a link, which connects, asks, supervises its devices, and tells what is worth telling.
//!
//! ```text
//! device ⇄ driver ─ batch ─▶ Pipeline ─┬─▶ LatestTable ──▶ everybody
//!          (one per link)              ├─▶ RecentValues
//!                                      └─▶ Listeners ──▶ uplinks and whoever else wants events
//! ```
//!
//! Rooms, each importing from those behind it only: a folder for each protocol (`modbus`, `opcua`, `dnp3`) → `poll`, `link`. What it leaves
//! out: brokers, people, and where descriptions are stored.

mod bacnet;
mod dnp3;
mod error;
mod link;
mod listeners;
mod modbus;
mod opcua;
mod poll;
mod start;
mod words;

pub use bacnet::{EdeList, ede_list};
pub use error::TrialError;
pub use link::{
    Bar, CountsView, DeviceAct, DeviceCounts, FrameFilter, FrameView, HistogramView, IdentityObject, Keeper, KeptEvent,
    LinkHandle, LinkStatistics, Memories, OfferRequest, OfferSource, OwnCertificateFiles, OwnCertificateView,
    OwnIdentity, PointWrite, RateView, RefusalCount, Relinquish, RequestView, Said, Surroundings, TrialAct,
    TrialAlternative, TrialIdentity, TrialRead, TrialReading, Via, WriteError, WriteOutcome,
};
pub use listeners::Listeners;
pub use start::{Offering, act, identify, read, sources, start, write};
pub use words::reason_words;
