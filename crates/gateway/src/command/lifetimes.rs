//! Commanded values that hold for a while only: what is not commanded anew in time goes back to its safe value.

use crate::running::Running;
use arc_swap::ArcSwap;
use interlex_busy::watched;
use interlex_core::{Clock, CommandValue, PointInfo, Timestamp};
use interlex_field::WriteError;
use interlex_store::{AuditEntry, AuditTrail, Store};
use parking_lot::Mutex;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Weak};
use std::time::Duration;
use tokio::sync::{Notify, OwnedMutexGuard};
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep};

/// Until when the commanded values of a gateway hold.
///
/// The moment is in the database before the value is in the device, so that no sudden end in between leaves a pump running.
/// Whatever writes to a point does so one after the other ([`Lifetimes::order`]), safe values too: what was commanded last
/// is what holds.
#[derive(Debug, Clone)]
pub(crate) struct Lifetimes {
    shared: Arc<Shared>,
}

/// Device and point.
type Key = (String, String);

#[derive(Debug)]
struct Shared {
    gateway: String,
    store: Option<Store>,
    trail: Option<AuditTrail>,
    clock: Arc<dyn Clock>,
    moments: Mutex<Moments>,
    /// Whoever writes to a point holds its lock.
    orders: Mutex<HashMap<Key, Arc<tokio::sync::Mutex<()>>>>,
    changed: Arc<Notify>,
}

#[derive(Debug, Default)]
struct Moments {
    due: BTreeMap<Key, Due>,
    /// What the database does not know yet.
    unsaved: BTreeSet<Key>,
    /// Whether it is known what an earlier run has left.
    is_loaded: bool,
}

/// When a commanded value ends.
#[derive(Debug, Clone)]
struct Due {
    /// What was commanded, in words; none where it is not known.
    commanded: Option<Arc<str>>,
    /// By the time of day, as it is kept and shown.
    until: Timestamp,
    /// By the monotonic clock, which counts: a time of day that is set back must not keep a pump running.
    at: Instant,
    /// Whether it is of an earlier run, and known by the time of day only.
    is_restored: bool,
}

impl Due {
    fn new(Held { until, commanded }: Held, now: Timestamp, is_restored: bool) -> Self {
        Self { commanded, until, at: Instant::now() + until.since(now), is_restored }
    }
}

/// A commanded value, and until when it holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Held {
    until: Timestamp,
    commanded: Option<Arc<str>>,
}

/// How soon a safe value is tried again that could not be written, and a database that is away.
const AGAIN: Duration = Duration::from_secs(1);

/// Points with their moments, by device.
type ByDevice = BTreeMap<String, Vec<(String, Timestamp)>>;

impl Lifetimes {
    /// Those that an earlier run has left, as soon as the database tells.
    pub(crate) async fn new(
        gateway: &str,
        store: Option<Store>,
        trail: Option<AuditTrail>,
        clock: Arc<dyn Clock>,
    ) -> Self {
        let moments = Mutex::new(Moments { is_loaded: store.is_none(), ..Moments::default() });
        let (orders, changed) = (Mutex::default(), Arc::default());
        let shared = Shared { gateway: gateway.to_owned(), store, trail, clock, moments, orders, changed };
        let lifetimes = Self { shared: Arc::new(shared) };
        lifetimes.load().await;
        lifetimes
    }

    /// Takes over what an earlier run has left; what was commanded since counts more.
    async fn load(&self) {
        let Some(store) = &self.shared.store else { return };
        if self.shared.moments.lock().is_loaded {
            return;
        }
        match store.command_lifetimes(&self.shared.gateway).await {
            Ok(kept) => {
                let now = self.shared.clock.now();
                let mut moments = self.shared.moments.lock();
                for kept in kept {
                    let key = (kept.device, kept.point);
                    if !moments.unsaved.contains(&key) {
                        let until = Timestamp::from_millis(kept.due_at);
                        let held = Held { until, commanded: kept.commanded.map(Into::into) };
                        moments.due.entry(key).or_insert_with(|| Due::new(held, now, true));
                    }
                }
                moments.is_loaded = true;
                self.shared.changed.notify_one();
            }
            Err(error) => {
                let gateway = &self.shared.gateway;
                tracing::error!(gateway, %error, "it is not known yet which commanded values of before have to end");
            }
        }
    }

    /// The turn to write to a point.
    pub(crate) async fn order(&self, device: &str, point: &str) -> OwnedMutexGuard<()> {
        let key = (device.to_owned(), point.to_owned());
        let order = Arc::clone(self.shared.orders.lock().entry(key).or_default());
        order.lock_owned().await
    }

    /// A value is about to be written to a point: from now on it holds for the lifetime of the point, if it has one.
    pub(crate) async fn begin(&self, device: &str, info: &PointInfo, value: &CommandValue) {
        let settings = info.settings();
        let safe = settings.safe_value.as_deref().map(|safe| info.value_from_words(safe));
        let is_safe = match value {
            // Nothing is commanded any more.
            CommandValue::Relinquish => true,
            CommandValue::Set(value) => safe
                .is_some_and(|safe| safe == *value || safe.as_f64().is_some_and(|safe| Some(safe) == value.as_f64())),
        };
        let until =
            settings.lifetime.filter(|_| !is_safe).map(|lifetime| self.shared.clock.now().plus(lifetime.into()));
        let until = until.map(|until| Held { until, commanded: Some(value.to_string().into()) });
        if until.is_some() || self.until(device, settings.name.as_str()).is_some() {
            self.set(device, settings.name.as_str(), until).await;
        }
    }

    /// The value of a point was not written after all: what was before holds.
    pub(crate) async fn restore(&self, device: &str, point: &str, before: Option<Held>) {
        if self.held(device, point) != before {
            self.set(device, point, before).await;
        }
    }

    /// Until when the commanded value of a point holds.
    pub(crate) fn until(&self, device: &str, point: &str) -> Option<Timestamp> {
        self.shared.moments.lock().due.get(&(device.to_owned(), point.to_owned())).map(|due| due.until)
    }

    /// The same with what was commanded.
    pub(crate) fn held(&self, device: &str, point: &str) -> Option<Held> {
        let moments = self.shared.moments.lock();
        let due = moments.due.get(&(device.to_owned(), point.to_owned()))?;
        Some(Held { until: due.until, commanded: due.commanded.clone() })
    }

    async fn set(&self, device: &str, point: &str, until: Option<Held>) {
        let key = (device.to_owned(), point.to_owned());
        {
            let mut moments = self.shared.moments.lock();
            match until {
                Some(until) => {
                    let due = Due::new(until, self.shared.clock.now(), false);
                    moments.due.insert(key.clone(), due)
                }
                None => moments.due.remove(&key),
            };
            moments.unsaved.insert(key.clone());
        }
        self.shared.changed.notify_one();
        self.save(&key).await;
    }

    /// Tells the database what holds now; what it does not take is in memory only, and tried again.
    async fn save(&self, key: &Key) {
        let until = {
            let mut moments = self.shared.moments.lock();
            if !moments.unsaved.remove(key) {
                return;
            }
            moments.due.get(key).map(|due| (due.until.as_millis(), due.commanded.clone()))
        };
        let Some(store) = &self.shared.store else { return };
        let (device, point) = (key.0.as_str(), key.1.as_str());
        // What is longer is not compared.
        let due = until.as_ref().map(|(at, commanded)| (*at, commanded.as_deref().filter(|words| words.len() <= 250)));
        if let Err(error) = store.set_command_lifetime(&self.shared.gateway, (device, point), due).await {
            tracing::error!(device, point, %error, "the lifetime of a command is in memory only");
            self.shared.moments.lock().unsaved.insert(key.clone());
        }
    }

    /// Writes safe values when they are due, and looks after the database, for as long as the gateway is there.
    pub(crate) fn watch(&self, running: &Arc<ArcSwap<Running>>) {
        tokio::spawn(watched("lifetimes", "safe values", self.clone().write_safe_values(Arc::downgrade(running))));
        tokio::spawn(watched("lifetimes", "database", self.clone().look_after_database(Arc::downgrade(running))));
    }

    async fn look_after_database(self, running: Weak<ArcSwap<Running>>) {
        while running.strong_count() > 0 {
            self.load().await;
            let unsaved: Vec<_> = self.shared.moments.lock().unsaved.iter().cloned().collect();
            for key in unsaved {
                // In turn with whoever writes to the point, so that what is newer is not written over.
                let _order = self.order(&key.0, &key.1).await;
                self.save(&key).await;
            }
            sleep(AGAIN).await;
        }
    }

    /// Those of several devices side by side: one that does not answer holds up nobody else's.
    async fn write_safe_values(self, running: Weak<ArcSwap<Running>>) {
        let (mut tasks, mut busy) = (JoinSet::new(), BTreeSet::new());
        loop {
            let Some(running) = running.upgrade() else { return };
            let now = Instant::now();
            self.hold_to_lifetimes(&running.load(), now);
            let (due, next) = self.due(now, &busy);
            for (device, points) in due {
                busy.insert(device.clone());
                let (lifetimes, running) = (self.clone(), running.load_full());
                tasks.spawn(watched("lifetimes", device.clone(), async move {
                    for (point, at) in points {
                        lifetimes.return_to_safe(&running, (&device, &point), at).await;
                    }
                    device
                }));
            }
            drop(running);
            let wait = next.map_or(AGAIN, |at| at.saturating_duration_since(now)).min(AGAIN);
            tokio::select! {
                () = sleep(wait) => {}
                () = self.shared.changed.notified() => {}
                Some(done) = tasks.join_next() => match done {
                    Ok(device) => _ = busy.remove(&device),
                    Err(error) => {
                        tracing::error!(%error, "a safe value was not written");
                        busy.clear();
                    }
                },
            }
        }
    }

    /// A time of day that was wrong when an earlier run ended, or is now, lets no value hold for longer than its lifetime.
    fn hold_to_lifetimes(&self, running: &Running, now: Instant) {
        let mut moments = self.shared.moments.lock();
        for ((device, point), due) in moments.due.iter_mut().filter(|(_, due)| due.is_restored) {
            let info = running.points().find(device, point);
            if let Some(lifetime) = info.and_then(|info| info.settings().lifetime) {
                due.at = due.at.min(now + Duration::from(lifetime));
            }
            due.is_restored = false;
        }
    }

    /// What is due by device, and when the next one will be; those of busy devices wait.
    fn due(&self, now: Instant, busy: &BTreeSet<String>) -> (ByDevice, Option<Instant>) {
        let (mut due, mut next): (BTreeMap<_, Vec<_>>, _) = (BTreeMap::new(), None::<Instant>);
        let moments = self.shared.moments.lock();
        for ((device, point), Due { until, at, .. }) in
            moments.due.iter().filter(|((device, _), _)| !busy.contains(device))
        {
            if *at <= now {
                due.entry(device.clone()).or_default().push((point.clone(), *until));
            } else {
                next = Some(next.map_or(*at, |next| next.min(*at)));
            }
        }
        (due, next)
    }

    async fn return_to_safe(&self, running: &Running, (device, point): (&str, &str), at: Timestamp) {
        let _order = self.order(device, point).await;
        // It may have been commanded anew while others had their turn: then that holds.
        if self.until(device, point) != Some(at) {
            return;
        }
        let info = running.points().find(device, point);
        let Some((info, safe)) = info.and_then(|info| Some((info, info.settings().safe_value.clone()?))) else {
            let why = "its commanded value has outlived its lifetime, and there is no safe value any more";
            self.audit(&format!("{device}/{point}: {why}")).await;
            return self.set(device, point, None).await;
        };
        let commanded = self.held(device, point).and_then(|held| held.commanded);
        let again = || Some(Held { until: self.shared.clock.now().plus(AGAIN), commanded: commanded.clone() });
        let (value, held) = if *safe == *CommandValue::RELINQUISH {
            (CommandValue::Relinquish, commanded.as_deref().map(|words| info.value_from_words(words)))
        } else {
            (info.value_from_words(&safe).into(), None)
        };
        match running.write(device, point, value, held).await {
            Some(Err(error @ (WriteError::Trial(_) | WriteError::Unknown { .. }))) => {
                tracing::error!(device, point, %error, "the safe value could not be written; it is tried again");
                self.set(device, point, again()).await;
            }
            Some(Ok(outcome)) if outcome.confirmed == Some(false) => {
                tracing::error!(device, point, "the device has another than the safe value; it is written again");
                self.set(device, point, again()).await;
            }
            outcome => {
                let what = match outcome {
                    Some(Ok(outcome)) => outcome.outcome().word().to_string(),
                    Some(Err(error)) => error.outcome().to_string(),
                    None => "refused: there is no such point any more".to_owned(),
                };
                tracing::warn!(device, point, safe = &*safe, what, "a command has outlived its lifetime");
                self.audit(&format!("{device}/{point} = {safe}, its safe value, after its lifetime: {what}")).await;
                self.set(device, point, None).await;
            }
        }
    }

    async fn audit(&self, detail: &str) {
        let Some(trail) = &self.shared.trail else { return };
        let entry = AuditEntry {
            at: self.shared.clock.now().as_millis(),
            person: "(lifetime)",
            source: "gateway",
            action: "command",
            gateway: &self.shared.gateway,
            detail,
            ..AuditEntry::default()
        };
        if let Err(error) = trail.add(&entry).await {
            tracing::error!(%error, detail, "a command waits for the audit trail");
        }
    }
}
