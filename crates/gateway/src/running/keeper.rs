use interlex_core::{SequenceEntry, TimeQuality};
use interlex_field::{Keeper, KeptEvent};
use interlex_store::{FieldEventRecord, NewFieldEvent, Store};
use std::pin::Pin;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::sleep;

/// Keeps what the field side of a gateway remembers in the database.
#[derive(Debug)]
pub(crate) struct StoreKeeper {
    store: Store,
    gateway: String,
    /// So many changes stay in the sequence of events.
    most_events: AtomicU32,
    /// How many came since some were removed last.
    new_events: AtomicU64,
    /// How many times something was added.
    additions: watch::Sender<u64>,
}

/// So many changes of one source are known again.
const KNOWN: u32 = 20_000;
/// After so many new ones the oldest go.
const TRIM_AFTER: u64 = 5000;
/// How long to wait before the database is tried again.
const AGAIN: Duration = Duration::from_secs(1);

impl StoreKeeper {
    pub(crate) fn new(store: Store, gateway: &str) -> Self {
        Self {
            store,
            gateway: gateway.to_owned(),
            most_events: AtomicU32::new(u32::MAX),
            // Some are looked for at the beginning, too.
            new_events: AtomicU64::new(TRIM_AFTER),
            additions: watch::Sender::new(0),
        }
    }

    /// So many changes stay in the sequence of events from now on.
    pub(crate) fn keep_most_events(&self, most: u32) {
        self.most_events.store(most, Ordering::Relaxed);
    }

    /// Tells whenever something was added to the sequence of events.
    pub(crate) fn additions(&self) -> watch::Receiver<u64> {
        self.additions.subscribe()
    }

    async fn add_events(&self, source: &str, events: Vec<NewFieldEvent>) {
        let mut may_be_there = false;
        loop {
            // An attempt that seemed to fail may have been carried out all the same.
            if may_be_there && self.are_last(source, &events).await {
                return;
            }
            match self.store.add_field_events(&self.gateway, source, &events).await {
                Ok(()) => return,
                Err(error) => {
                    if !may_be_there {
                        tracing::warn!(gateway = self.gateway, source, %error, "the sequence of events waits for the database");
                    }
                    may_be_there = true;
                    sleep(AGAIN).await;
                }
            }
        }
    }

    /// Whether a source told these last.
    async fn are_last(&self, source: &str, events: &[NewFieldEvent]) -> bool {
        let count = u32::try_from(events.len()).unwrap_or(u32::MAX);
        let last = self.store.last_field_events(&self.gateway, source, count).await;
        last.is_ok_and(|last| last.iter().map(|record| &record.event).eq(events))
    }

    async fn trim(&self) {
        let most = self.most_events.load(Ordering::Relaxed);
        loop {
            match self.store.trim_field_events(&self.gateway, most).await {
                Ok(0) => return,
                Ok(_) => {}
                // It is done the next time.
                Err(error) => {
                    return tracing::warn!(gateway = self.gateway, %error, "the sequence of events stays too long");
                }
            }
        }
    }
}

fn stored(entry: SequenceEntry) -> NewFieldEvent {
    NewFieldEvent {
        device: entry.device.to_string(),
        point: entry.point.map(|point| point.to_string()),
        address: entry.address,
        state: entry.state,
        is_number: entry.is_number,
        flags: entry.flags,
        at: entry.at.as_millis(),
        time_quality: entry.time_quality.number(),
        arrived: entry.arrived.as_millis(),
        mark: entry.mark,
    }
}

impl Keeper for StoreKeeper {
    fn load(&self, place: String) -> Pin<Box<dyn Future<Output = Option<Vec<u8>>> + Send + '_>> {
        Box::pin(async move {
            let kept = self.store.field_memory(&self.gateway, &place).await;
            kept.inspect_err(|error| tracing::warn!(gateway = self.gateway, %error, "what was remembered of the field cannot be read"))
                .ok()
                .flatten()
        })
    }

    fn save(&self, place: String, content: Vec<u8>) -> Pin<Box<dyn Future<Output = bool> + Send + '_>> {
        // While the database is away it is tried again, with what is so then.
        Box::pin(async move { self.store.set_field_memory(&self.gateway, &place, &content).await.is_ok() })
    }

    fn keep_events(&self, source: &str, entries: Vec<SequenceEntry>) -> Pin<Box<dyn Future<Output = ()> + Send + '_>> {
        let source = source.to_owned();
        Box::pin(async move {
            let count = entries.len() as u64;
            self.add_events(&source, entries.into_iter().map(stored).collect()).await;
            self.additions.send_modify(|additions| *additions += 1);
            if self.new_events.fetch_add(count, Ordering::Relaxed) + count >= TRIM_AFTER {
                self.new_events.store(0, Ordering::Relaxed);
                self.trim().await;
            }
        })
    }

    fn last_events(&self, source: &str) -> Pin<Box<dyn Future<Output = Option<Vec<KeptEvent>>> + Send + '_>> {
        let source = source.to_owned();
        Box::pin(async move {
            let last = self.store.last_field_events(&self.gateway, &source, KNOWN).await;
            let timed = |record: FieldEventRecord| {
                let is_timed = record.event.time_quality != TimeQuality::Arrival.number();
                is_timed.then_some((record.event.address, record.event.mark))
            };
            match last {
                Ok(last) => Some(last.into_iter().filter_map(timed).collect()),
                Err(error) => {
                    tracing::warn!(gateway = self.gateway, source, %error, "what it told last is not known");
                    None
                }
            }
        })
    }
}
