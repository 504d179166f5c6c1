use anyhow::Context;
use interlex_core::description::Description;
use interlex_core::{FieldEvent, LatestTable, ManualClock, PointTable, RecentValues, Timestamp};
use interlex_field::{LinkHandle, Listeners, Memories, Surroundings, Via};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio::time::{Instant, sleep};
use tokio_util::sync::CancellationToken;

const PATIENCE: Duration = Duration::from_secs(180);

/// A link that runs, and how many samples came of it.
pub(crate) struct Watching {
    told: Arc<AtomicU64>,
    link: LinkHandle,
    running: JoinHandle<()>,
    stop: CancellationToken,
}

impl Watching {
    pub(crate) fn start(description: &Description) -> anyhow::Result<Self> {
        let points = Arc::new(PointTable::new(description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let (recent, listeners) = (Arc::new(RecentValues::default()), Listeners::default());
        recent.grow(points.indices());
        let (sender, mut receiver) = mpsc::channel(64);
        listeners.set(vec![sender]);
        let told = Arc::new(AtomicU64::new(0));
        let counted = Arc::clone(&told);
        tokio::spawn(async move {
            while let Some(event) = receiver.recv().await {
                if let FieldEvent::Keep(receipt) = &event {
                    receipt.stored();
                }
                if let FieldEvent::Samples(samples) = event {
                    let good = samples.iter().filter(|sample| sample.quality.is_good()).count();
                    counted.fetch_add(good as u64, Ordering::Relaxed);
                }
            }
        });
        let clock = Arc::new(ManualClock::new(Timestamp::from_millis(1_800_000_000_000)));
        let around = Surroundings { points, latest, recent, listeners, memories: Memories::default(), clock };
        let stop = CancellationToken::new();
        let link = description.links.first().context("no link")?;
        let (link, running) = interlex_field::start(description, link, &around, stop.clone());
        Ok(Self { told, link, running, stop })
    }

    pub(crate) fn told(&self) -> u64 {
        self.told.load(Ordering::Relaxed)
    }

    pub(crate) const fn link(&self) -> &LinkHandle {
        &self.link
    }

    /// The way over the link, for what is done once.
    pub(crate) fn via(&self) -> Via {
        let clock = Arc::new(ManualClock::new(Timestamp::from_millis(1_800_000_000_000)));
        Via { links: vec![self.link.clone()], memories: Memories::default(), clock }
    }

    /// Waits until so many samples came.
    pub(crate) async fn has_told(&self, count: usize) -> anyhow::Result<()> {
        let deadline = Instant::now() + PATIENCE;
        while self.told() < count as u64 {
            anyhow::ensure!(Instant::now() < deadline, "{} of {count} came", self.told());
            sleep(Duration::from_millis(1)).await;
        }
        Ok(())
    }

    pub(crate) async fn end(self) -> anyhow::Result<()> {
        self.stop.cancel();
        Ok(self.running.await?)
    }
}
