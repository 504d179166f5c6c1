use crate::network::Peer;
use crate::node::RequestId;
use crate::primitive::{BitString, ObjectIdentifier, Value};
use crate::service::PropertyReference;
use std::time::Instant;

/// Who is told changes of what.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct SubscriptionKey {
    pub(super) object: ObjectIdentifier,
    pub(super) peer: Peer,
    pub(super) process: u32,
    pub(super) property: Option<PropertyReference>,
}

/// How changes are told, and what was told last.
#[derive(Debug)]
pub(super) struct Subscription {
    pub(super) is_confirmed: bool,
    pub(super) until: Option<Instant>,
    pub(super) increment: Option<f32>,
    pub(super) told: Option<(Option<Value>, Option<BitString>)>,
    /// What was told and has to be acknowledged.
    pub(super) under_way: Option<RequestId>,
}

impl Subscription {
    /// For how many seconds more.
    pub(super) fn remaining(&self, now: Instant) -> u32 {
        let seconds = |until: Instant| until.saturating_duration_since(now).as_secs();
        self.until.map_or(0, |until| u32::try_from(seconds(until)).unwrap_or(u32::MAX).max(1))
    }

    /// Whether it has to be told that something became another value.
    pub(super) fn is_news(&self, value: Option<&Value>, flags: Option<&BitString>, increment: Option<f64>) -> bool {
        let Some((told, told_flags)) = &self.told else { return true };
        if told_flags.as_ref() != flags {
            return true;
        }
        let increment = self.increment.map(f64::from).or(increment).unwrap_or(0.0);
        match (told.as_ref().and_then(Value::as_f64), value.and_then(Value::as_f64)) {
            // As the standard says: by as much as the increment, or more.
            (Some(before), Some(now)) if increment > 0.0 => (now - before).abs() >= increment,
            _ => told.as_ref() != value,
        }
    }
}
