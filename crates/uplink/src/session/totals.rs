use interlex_store::{Store, UplinkCount};
use std::time::Duration;
use tokio::task::JoinHandle;
use tokio::time::{Instant, timeout};

/// What an uplink has delivered, published and lost since it is counted, over restarts.
#[derive(Debug)]
pub(crate) struct Totals {
    store: Option<Store>,
    gateway: String,
    uplink: String,
    /// Whether what was counted before this run is known.
    is_known: bool,
    kept: Option<UplinkCount>,
    work: Option<JoinHandle<Done>>,
    due: Instant,
}

/// What became of the database's part.
#[derive(Debug)]
enum Done {
    Read(Option<UplinkCount>),
    Kept(UplinkCount),
    Failed,
}

/// It is kept so often where it changes.
const EVERY: Duration = Duration::from_secs(5);

impl Totals {
    pub(crate) fn new(store: Option<Store>, (gateway, uplink): (&str, &str)) -> Self {
        let (gateway, uplink) = (gateway.to_owned(), uplink.to_owned());
        Self { store, gateway, uplink, is_known: false, kept: None, work: None, due: Instant::now() }
    }

    /// Does what is due, and never waits for it; `now` is what is shown. Gives what was counted before this run once that is read.
    pub(crate) async fn step(&mut self, now: UplinkCount) -> Option<UplinkCount> {
        if let Some(work) = self.work.take_if(|work| work.is_finished()) {
            match work.await {
                Ok(Done::Read(before)) => {
                    self.is_known = true;
                    return before;
                }
                Ok(Done::Kept(count)) => self.kept = Some(count),
                Ok(Done::Failed) | Err(_) => {}
            }
        }
        let store = self.store.as_ref().filter(|_| self.work.is_none() && Instant::now() >= self.due)?.clone();
        self.due = Instant::now() + EVERY;
        let (gateway, uplink) = (self.gateway.clone(), self.uplink.clone());
        if !self.is_known {
            self.work = Some(tokio::spawn(async move {
                store.uplink_count(&gateway, &uplink).await.map_or(Done::Failed, Done::Read)
            }));
        } else if self.kept != Some(now) {
            self.work = Some(tokio::spawn(async move {
                store.keep_uplink_count(&gateway, &uplink, now).await.map_or(Done::Failed, |()| Done::Kept(now))
            }));
        }
        None
    }

    /// Keeps the last of it. What was never read is not kept: nobody knows what it would be added to.
    pub(crate) async fn close(&mut self, now: UplinkCount, limit: Duration) {
        let Some(store) = self.store.as_ref().filter(|_| self.is_known && self.kept != Some(now)) else { return };
        let kept = timeout(limit, store.keep_uplink_count(&self.gateway, &self.uplink, now)).await;
        if !matches!(kept, Ok(Ok(()))) {
            tracing::debug!(uplink = self.uplink, "the last of its counts is not in the database");
        }
    }
}
