//! What is remembered of a server over links that are started anew, and over runs of this program.

use super::endpoint::{self, Security};
use crate::link::Keeper;
use interlex_opcua::{Binary, DataValue, DecodeError, Limits, MessageSecurityMode, Reader, SecurityPolicy};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What is remembered of a server.
#[derive(Debug, Default)]
pub(super) struct ServerMemory {
    known: Mutex<Known>,
}

#[derive(Debug, Clone, PartialEq, Default)]
struct Known {
    is_loaded: bool,
    /// The security that `auto` has come to.
    agreed: Option<Security>,
    /// Subscriptions that may still be at the server.
    subscriptions: Vec<u32>,
    /// What was told last of what has a history, by what is watched.
    told: BTreeMap<String, DataValue>,
}

const VERSION: u8 = 1;

impl ServerMemory {
    pub(super) fn agreed(&self) -> Option<Security> {
        self.known.lock().agreed
    }

    pub(super) fn agree(&self, security: Security) {
        self.known.lock().agreed = Some(security);
    }

    /// What was told last of something.
    pub(super) fn told(&self, what: &str) -> Option<DataValue> {
        self.known.lock().told.get(what).cloned()
    }

    /// The subscriptions of a run before: whoever takes them ends them.
    pub(super) fn take_orphans(&self) -> Vec<u32> {
        std::mem::take(&mut self.known.lock().subscriptions)
    }

    /// This is so now.
    pub(super) fn note(&self, subscriptions: Vec<u32>, told: impl Iterator<Item = (String, DataValue)>) {
        let mut known = self.known.lock();
        known.subscriptions = subscriptions;
        known.told.extend(told);
    }

    /// Remembers what a run before has kept, once.
    pub(super) async fn load(&self, keeper: Option<&Arc<dyn Keeper>>, place: &str) {
        let Some(keeper) = keeper.filter(|_| !self.known.lock().is_loaded) else { return };
        let kept = keeper.load(place.to_owned()).await;
        let mut known = self.known.lock();
        if !known.is_loaded {
            let kept = kept.and_then(|bytes| Known::from_bytes(&bytes).ok()).unwrap_or_default();
            let agreed = known.agreed.or(kept.agreed);
            *known = Known { is_loaded: true, agreed, ..kept };
        }
    }

    /// As it is kept.
    pub(super) fn bytes(&self) -> Vec<u8> {
        self.known.lock().to_bytes()
    }
}

impl Known {
    fn to_bytes(&self) -> Vec<u8> {
        let mut out = vec![VERSION];
        self.agreed.map(|security| endpoint::word(security).to_owned()).encode(&mut out);
        self.subscriptions.encode(&mut out);
        u32::try_from(self.told.len()).unwrap_or_default().encode(&mut out);
        for (what, value) in &self.told {
            Some(what.clone()).encode(&mut out);
            value.encode(&mut out);
        }
        out
    }

    fn from_bytes(bytes: &[u8]) -> Result<Self, DecodeError> {
        let mut from = Reader::new(bytes, Limits::default());
        if u8::decode(&mut from)? != VERSION {
            return Ok(Self::default());
        }
        let word: Option<String> = Option::decode(&mut from)?;
        let mut known = Self { agreed: word.and_then(|word| security(&word)), ..Self::default() };
        known.subscriptions = Vec::decode(&mut from)?;
        for _ in 0..u32::decode(&mut from)? {
            let what: Option<String> = Option::decode(&mut from)?;
            known.told.insert(what.unwrap_or_default(), DataValue::decode(&mut from)?);
        }
        Ok(known)
    }
}

fn security(word: &str) -> Option<Security> {
    let modes = [MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt];
    let mut all = modes.into_iter().flat_map(|mode| SecurityPolicy::ALL.map(|policy| (mode, policy)));
    all.find(|security| endpoint::word(*security) == word)
}

/// Keeps it, some time after it was so: what was told has to be safe before.
#[derive(Debug, Default)]
pub(super) struct Saving {
    waiting: Option<(Instant, Vec<u8>)>,
    saved: Vec<u8>,
    next: Option<Instant>,
}

/// Longer than what was told takes until it is in the journal.
const LATER: Duration = Duration::from_secs(3);
const EVERY: Duration = Duration::from_secs(5);

impl Saving {
    /// When [`Saving::due`] has something to do.
    pub(super) fn deadline(&self) -> Option<Instant> {
        self.waiting.as_ref().map(|(at, _)| *at).or(self.next)
    }

    /// Whether it is time to note what is so now.
    pub(super) fn wants(&self, now: Instant) -> bool {
        self.waiting.is_none() && self.next.is_none_or(|next| now >= next)
    }

    /// What was to be kept is not.
    pub(super) fn forget(&mut self) {
        self.saved.clear();
    }

    /// This is so now.
    pub(super) fn take(&mut self, memory: &ServerMemory, now: Instant) {
        self.next = Some(now + EVERY);
        let bytes = memory.bytes();
        self.waiting = (bytes != self.saved).then(|| (now + LATER, bytes));
    }

    /// What is to be kept now.
    pub(super) fn due(&mut self, now: Instant) -> Option<Vec<u8>> {
        let (_, bytes) = self.waiting.take_if(|(at, _)| now >= *at)?;
        self.saved.clone_from(&bytes);
        Some(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_opcua::{DateTime, Variant};

    #[test]
    fn what_is_kept_is_read_back_and_what_is_cut_is_nothing() {
        let value = DataValue {
            value: Some(Variant::from(498.5)),
            source_time: Some(DateTime::from_unix_millis(1_800_000_000_000)),
            ..DataValue::default()
        };
        let known = Known {
            is_loaded: false,
            agreed: Some((MessageSecurityMode::SignAndEncrypt, SecurityPolicy::Basic256Sha256)),
            subscriptions: vec![7, 9],
            told: [("nsu=urn:alderfen:chp;s=Engine.Speed".to_owned(), value)].into(),
        };
        let bytes = known.to_bytes();
        assert_eq!(Known::from_bytes(&bytes), Ok(known));
        for cut in 1..bytes.len() {
            assert!(Known::from_bytes(&bytes[..cut]).is_err(), "{cut}");
        }
        assert_eq!(Known::from_bytes(&[9, 1, 2, 3]), Ok(Known::default()), "of a version that is not known");
    }
}
