use super::command::{Leaving, LinkCommand};
use super::frames::{FrameFilter, FrameLog, FrameView};
use super::memory::Memories;
use super::plan::LinkPlan;
use super::statistics::{LinkStatistics, Statistics};
use super::view::RequestView;
use crate::listeners::Listeners;
use interlex_core::description::{Description, Link, LinkProtocol};
use interlex_core::{Clock, LatestTable, LinkStatus, PointIndex, PointTable, RecentValues, Shared};
use parking_lot::Mutex;
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot};
use tokio::time::Instant;

/// What a link works with that belongs to the whole gateway.
#[derive(Debug, Clone)]
pub struct Surroundings {
    /// The points.
    pub points: Arc<PointTable>,
    /// The newest reading of each.
    pub latest: Arc<LatestTable>,
    /// The last minutes of each.
    pub recent: Arc<RecentValues>,
    /// Who is told what is worth reporting.
    pub listeners: Listeners,
    /// What protocols remember of the places that links lead to.
    pub memories: Memories,
    /// The time of day.
    pub clock: Arc<dyn Clock>,
}

/// What a running link shows of itself.
#[derive(Debug, Clone)]
pub(crate) struct LinkShown {
    pub(crate) status: Arc<Shared<LinkStatus>>,
    pub(crate) statistics: Arc<Mutex<Statistics>>,
    pub(crate) frames: Arc<dyn FrameLog>,
}

/// A running link: what it shows, and the way to ask something of it. It runs on when this is dropped.
#[derive(Debug, Clone)]
pub struct LinkHandle {
    name: String,
    protocol: Arc<LinkProtocol>,
    shown: LinkShown,
    commands: mpsc::Sender<LinkCommand>,
    clock: Arc<dyn Clock>,
}

impl LinkHandle {
    pub(crate) fn new(
        link: &Link,
        shown: LinkShown,
        commands: mpsc::Sender<LinkCommand>,
        clock: Arc<dyn Clock>,
    ) -> Self {
        let (name, protocol) = (link.settings.name.to_string(), Arc::new(link.protocol.clone()));
        Self { name, protocol, shown, commands, clock }
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What it speaks, and where.
    #[must_use]
    pub fn protocol(&self) -> &LinkProtocol {
        &self.protocol
    }

    /// The status itself, for whoever changes titles or tells of devices.
    #[must_use]
    pub fn shared_status(&self) -> &Shared<LinkStatus> {
        &self.shown.status
    }

    /// How it is.
    #[must_use]
    pub fn status(&self) -> LinkStatus {
        let (mut status, rate) = self.shown.status.read(self.clock.now());
        status.requests_per_second = rate;
        status
    }

    /// The newest frames, oldest first.
    #[must_use]
    pub fn frames(&self, filter: &FrameFilter) -> Vec<FrameView> {
        self.shown.frames.view(filter)
    }

    /// The newest frames as a pcapng file.
    #[must_use]
    pub fn capture(&self) -> Option<Vec<u8>> {
        let link = self.name.as_str();
        let written = self.shown.frames.capture(link);
        // Writing into memory fails only for frames longer than any that a link takes in.
        written.inspect_err(|error| tracing::error!(link, %error, "the recording cannot be written")).ok()
    }

    /// Counts from nothing on again.
    pub fn reset_statistics(&self) {
        let now = Instant::now().into_std();
        self.shown.statistics.lock().reset((now, self.clock.now()));
    }

    /// What it counted since it runs, or since its counters were reset.
    #[must_use]
    pub fn statistics(&self) -> LinkStatistics {
        self.shown.statistics.lock().view(Instant::now().into_std())
    }

    /// The requests that it sends: as planned, and what was learned; `None` when it has ended.
    pub async fn requests(&self, points: Arc<PointTable>) -> Option<Vec<RequestView>> {
        let (answer, answered) = oneshot::channel();
        self.commands.send(LinkCommand::Requests(points, answer)).await.ok()?;
        answered.await.ok()
    }

    /// Tries anew what was learned about the addresses of a device, or of all. `false` when it has ended.
    pub async fn relearn(&self, device: Option<String>) -> bool {
        self.commands.send(LinkCommand::Relearn(device)).await.is_ok()
    }

    /// Points leave the link: when this is back, nothing more is told of them. Those that mean something else from now on are
    /// forgotten.
    pub async fn leave(&self, points: Vec<PointIndex>, redefined: Vec<PointIndex>) {
        let (done, is_done) = oneshot::channel();
        // An error means that the link has ended: it tells nothing more either.
        if self.commands.send(LinkCommand::Leave(Leaving { points, redefined }, done)).await.is_ok() {
            let _ = is_done.await;
        }
    }

    /// The link is described as it was, among points of which others may not be: it lets go of the table before.
    pub fn stay(&self, points: Arc<PointTable>) {
        // An error means that the link has ended, or has so much to do that it keeps the one before until the next time.
        _ = self.commands.try_send(LinkCommand::Points(points));
    }

    /// The link is described anew, with other devices or points: devices that differ begin anew, the others go on.
    pub async fn change(&self, description: &Description, link: &Link, around: &Surroundings) {
        let plan = LinkPlan::new(description, link, &around.points);
        let (done, is_done) = oneshot::channel();
        let change = Box::new((plan, Arc::clone(&around.points), Arc::clone(&around.latest)));
        if self.commands.send(LinkCommand::Change(change, done)).await.is_ok() {
            let _ = is_done.await;
        }
    }

    pub(crate) const fn commands(&self) -> &mpsc::Sender<LinkCommand> {
        &self.commands
    }
}
