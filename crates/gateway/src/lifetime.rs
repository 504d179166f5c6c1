//! Commanded values that hold for a while only: what is not commanded anew in time goes back to its safe value.

use crate::clock::wall_clock;
use crate::gateway::Running;
use crate::write::WriteError;
use arc_swap::ArcSwap;
use interlex_core::description::PointSettings;
use interlex_core::{Timestamp, Value};
use interlex_store::{AuditEntry, Store};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Notify;
use tokio::time::sleep;

/// Until when the commanded values of a gateway hold.
///
/// The moment is in the database before the value is in the device, so that no sudden end in between leaves a pump running.
#[derive(Debug, Clone)]
pub(crate) struct Lifetimes {
    shared: Arc<Shared>,
}

#[derive(Debug)]
struct Shared {
    gateway: String,
    store: Option<Store>,
    /// By device and point.
    due: Mutex<BTreeMap<(String, String), Timestamp>>,
    changed: Arc<Notify>,
}

/// How soon a safe value is tried again that could not be written.
const AGAIN: Duration = Duration::from_secs(1);

impl Lifetimes {
    /// Those that an earlier run has left.
    pub(crate) async fn new(gateway: &str, store: Option<Store>) -> Self {
        let mut due = BTreeMap::new();
        if let Some(store) = &store {
            match store.command_lifetimes(gateway).await {
                Ok(kept) => due.extend(
                    kept.into_iter().map(|kept| ((kept.device, kept.point), Timestamp::from_millis(kept.due_at))),
                ),
                Err(error) => tracing::error!(gateway, %error, "commanded values of before hold for good"),
            }
        }
        let shared = Shared { gateway: gateway.to_owned(), store, due: Mutex::new(due), changed: Arc::default() };
        Self { shared: Arc::new(shared) }
    }

    /// A value is about to be written to a point: from now on it holds for the lifetime of the point, if it has one.
    pub(crate) async fn begin(&self, device: &str, settings: &PointSettings, value: &Value) {
        let safe = settings.safe_value.as_deref().map(Value::from_words);
        let is_safe =
            safe.is_some_and(|safe| safe == *value || safe.as_f64().is_some_and(|safe| Some(safe) == value.as_f64()));
        let until = settings.lifetime.filter(|_| !is_safe).map(|lifetime| wall_clock().plus(lifetime.into()));
        if until.is_some() || self.until(device, settings.name.as_str()).is_some() {
            self.set(device, settings.name.as_str(), until).await;
        }
    }

    /// The value of a point was not written after all: what was before holds.
    pub(crate) async fn restore(&self, device: &str, point: &str, before: Option<Timestamp>) {
        if self.until(device, point) != before {
            self.set(device, point, before).await;
        }
    }

    /// Until when the commanded value of a point holds.
    pub(crate) fn until(&self, device: &str, point: &str) -> Option<Timestamp> {
        self.shared.due.lock().get(&(device.to_owned(), point.to_owned())).copied()
    }

    async fn set(&self, device: &str, point: &str, until: Option<Timestamp>) {
        let key = (device.to_owned(), point.to_owned());
        match until {
            Some(until) => self.shared.due.lock().insert(key, until),
            None => self.shared.due.lock().remove(&key),
        };
        self.shared.changed.notify_one();
        let Some(store) = &self.shared.store else { return };
        let due_at = until.map(Timestamp::as_millis);
        if let Err(error) = store.set_command_lifetime(&self.shared.gateway, (device, point), due_at).await {
            tracing::error!(device, point, %error, "the lifetime of a command is in memory only");
        }
    }

    /// Writes safe values when they are due, for as long as the gateway is there.
    pub(crate) fn watch(&self, running: &Arc<ArcSwap<Running>>) {
        let (lifetimes, changed) = (self.clone(), Arc::clone(&self.shared.changed));
        let running = Arc::downgrade(running);
        tokio::spawn(async move {
            loop {
                let Some(running) = running.upgrade() else { return };
                let next = lifetimes.next();
                let now = wall_clock();
                match next {
                    Some((at, device, point)) if at <= now => {
                        lifetimes.return_to_safe(&running.load_full(), (&device, &point), at).await;
                    }
                    next => {
                        drop(running);
                        let wait = next.map_or(AGAIN, |(at, ..)| at.since(now)).min(AGAIN);
                        tokio::select! {
                            () = sleep(wait) => {}
                            () = changed.notified() => {}
                        }
                    }
                }
            }
        });
    }

    fn next(&self) -> Option<(Timestamp, String, String)> {
        let due = self.shared.due.lock();
        due.iter().min_by_key(|(_, at)| **at).map(|((device, point), at)| (*at, device.clone(), point.clone()))
    }

    /// Goes on from a moment that has come, unless the point was commanded anew meanwhile: then that holds.
    async fn settle(&self, (device, point): (&str, &str), at: Timestamp, next: Option<Timestamp>) {
        if self.until(device, point) == Some(at) {
            self.set(device, point, next).await;
        }
    }

    async fn return_to_safe(&self, running: &Running, (device, point): (&str, &str), at: Timestamp) {
        let safe = running.points().find(device, point).and_then(|info| info.settings().safe_value.clone());
        let Some(safe) = safe else {
            let why = "its commanded value has outlived its lifetime, and there is no safe value any more";
            self.audit(&format!("{device}/{point}: {why}")).await;
            return self.settle((device, point), at, None).await;
        };
        let again = || Some(wall_clock().plus(AGAIN));
        match running.write_unwatched(device, point, Value::from_words(&safe)).await {
            Some(Err(WriteError::Trial(error))) => {
                tracing::error!(device, point, %error, "the safe value could not be written; it is tried again");
                self.settle((device, point), at, again()).await;
            }
            Some(Ok(outcome)) if outcome.confirmed == Some(false) => {
                tracing::error!(device, point, "the device has another than the safe value; it is written again");
                self.settle((device, point), at, again()).await;
            }
            outcome => {
                let what = match outcome {
                    Some(Ok(outcome)) if outcome.confirmed == Some(true) => "confirmed".to_owned(),
                    Some(Ok(_)) => "accepted".to_owned(),
                    Some(Err(error)) => format!("refused: {error}"),
                    None => "refused: there is no such point any more".to_owned(),
                };
                tracing::warn!(device, point, safe = &*safe, what, "a command has outlived its lifetime");
                self.audit(&format!("{device}/{point} = {safe}, its safe value, after its lifetime: {what}")).await;
                self.settle((device, point), at, None).await;
            }
        }
    }

    async fn audit(&self, detail: &str) {
        let Some(store) = &self.shared.store else { return };
        let entry = AuditEntry {
            at: wall_clock().as_millis(),
            person: "(lifetime)",
            source: "gateway",
            action: "command",
            gateway: &self.shared.gateway,
            detail,
            ..AuditEntry::default()
        };
        if let Err(error) = store.add_audit(&entry).await {
            tracing::error!(%error, detail, "a command is missing in the audit trail");
        }
    }
}
