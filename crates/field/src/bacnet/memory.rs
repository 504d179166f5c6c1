//! What is remembered of a device over links that are started anew, and over runs of this program: until when it was heard, and how
//! far its logs were read.

use crate::link::Keeper;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What is remembered of a device.
#[derive(Debug, Default)]
pub(super) struct DeviceMemory {
    known: Mutex<Known>,
}

#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
struct Known {
    #[serde(skip)]
    is_loaded: bool,
    /// When something of it was read last, and everything before was had back, in milliseconds since 1970 UTC.
    whole_until: Option<i64>,
    /// How far each log was read, by its instance.
    read: BTreeMap<u32, Position>,
}

/// A record of a log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Position {
    /// Its number.
    pub(super) sequence: u32,
    /// When, by the clock of the device, in milliseconds.
    pub(super) local_millis: i64,
}

impl DeviceMemory {
    /// Remembers what a run before has kept, once.
    pub(super) async fn load(&self, keeper: Option<&Arc<dyn Keeper>>, place: &str) {
        let Some(keeper) = keeper.filter(|_| !self.known.lock().is_loaded) else { return };
        let kept = keeper.load(place.to_owned()).await;
        let mut known = self.known.lock();
        if !known.is_loaded {
            let kept = kept.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
            *known = Known { is_loaded: true, ..kept };
        }
    }

    pub(super) fn whole_until(&self) -> Option<i64> {
        self.known.lock().whole_until
    }

    /// Everything until now was told.
    pub(super) fn is_whole_until(&self, utc_millis: i64) {
        self.known.lock().whole_until = Some(utc_millis);
    }

    pub(super) fn read(&self, log: u32) -> Option<Position> {
        self.known.lock().read.get(&log).copied()
    }

    /// A log was read so far.
    pub(super) fn is_read(&self, log: u32, to: Position) {
        self.known.lock().read.insert(log, to);
    }

    fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec(&*self.known.lock()).unwrap_or_default()
    }
}

/// Keeps it, some time after it was so: what was told has to be safe before.
#[derive(Debug, Default)]
pub(super) struct Saving {
    waiting: Option<(Instant, Vec<u8>)>,
    next: Option<Instant>,
}

/// Longer than what was told takes until it is in the journal.
const LATER: Duration = Duration::from_secs(3);
const EVERY: Duration = Duration::from_secs(5);

impl Saving {
    /// What is to be kept now, of how it was a while ago.
    pub(super) fn due(&mut self, memory: &DeviceMemory, now: Instant) -> Option<Vec<u8>> {
        let due = self.waiting.take_if(|(at, _)| now >= *at).map(|(_, bytes)| bytes);
        if self.waiting.is_none() && self.next.is_none_or(|next| now >= next) {
            (self.waiting, self.next) = (Some((now + LATER, memory.bytes())), Some(now + EVERY));
        }
        due
    }
}
