use crate::{TimeQuality, Timestamp};
use std::sync::Arc;

/// A change as a device told it, for the sequence of events of the gateway: also of what nobody has described.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SequenceEntry {
    /// The device that told it.
    pub device: Arc<str>,
    /// The point, where there is one.
    pub point: Option<Arc<str>>,
    /// Where it lives, in the protocol's words.
    pub address: String,
    /// What it became, in words.
    pub state: String,
    /// Whether that is a number, and no state.
    pub is_number: bool,
    /// What the device says of it, in the protocol's words.
    pub flags: String,
    /// When, by the device; when it arrived, where the device does not say.
    pub at: Timestamp,
    /// What that time is worth.
    pub time_quality: TimeQuality,
    /// When it arrived.
    pub arrived: Timestamp,
    /// What tells it from all others of the same address: the same content has the same.
    pub mark: u64,
}
