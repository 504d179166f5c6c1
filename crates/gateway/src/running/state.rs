use super::status::GatewayStatus;
use interlex_core::description::{Description, Device, Link};
use interlex_core::{
    BufferView, Clock, CommandValue, Inventory, LatestTable, LinkStatus, PointInfo, PointTable, RecentValues, Shared,
    Timestamp, UplinkStatus, Value,
};
use interlex_field::{
    FrameFilter, FrameView, LinkHandle, LinkStatistics, Memories, PointWrite, Relinquish, RequestView, Via, WriteError,
    WriteOutcome,
};
use interlex_uplink::{Published, SentMessage, UplinkRequest};
use std::collections::HashMap;
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot};

/// What runs right now.
#[derive(Debug)]
pub struct Running {
    description: Arc<Description>,
    inventory: Inventory,
    recent: Arc<RecentValues>,
    links: Vec<LinkHandle>,
    uplinks: Vec<RunningUplink>,
    /// What protocols remember of the places that links lead to.
    memories: Memories,
    clock: Arc<dyn Clock>,
    revision: u32,
}

/// An uplink that runs: what it shows, and the way to ask something of it.
#[derive(Debug, Clone)]
pub(crate) struct RunningUplink {
    pub(crate) status: Arc<Shared<UplinkStatus>>,
    pub(crate) requests: mpsc::Sender<UplinkRequest>,
}

impl RunningUplink {
    pub(crate) fn status(&self, now: Timestamp) -> UplinkStatus {
        let (mut status, rate) = self.status.read(now);
        status.samples_per_second = rate;
        status
    }

    /// Asks it something; `None` when it has ended.
    async fn ask<T>(&self, request: impl FnOnce(oneshot::Sender<T>) -> UplinkRequest) -> Option<T> {
        let (answer, answered) = oneshot::channel();
        self.requests.send(request(answer)).await.ok()?;
        answered.await.ok()
    }
}

impl Running {
    /// Before anything runs.
    pub(crate) fn nothing(description: &Description, memories: Memories, clock: Arc<dyn Clock>) -> Self {
        let (points, latest) = (Arc::new(PointTable::default()), Arc::new(LatestTable::new(0)));
        let description = Description::empty(description);
        Self {
            inventory: Inventory::new(&description, points, latest),
            description: Arc::new(description),
            recent: Arc::default(),
            links: Vec::new(),
            uplinks: Vec::new(),
            memories,
            clock,
            revision: 0,
        }
    }

    /// What runs in its place from now on.
    pub(crate) fn followed_by(
        &self,
        (description, revision): (Arc<Description>, u32),
        inventory: Inventory,
        links: Vec<LinkHandle>,
        uplinks: Vec<RunningUplink>,
    ) -> Self {
        let (recent, memories, clock) = (Arc::clone(&self.recent), self.memories.clone(), Arc::clone(&self.clock));
        Self { description, inventory, recent, links, uplinks, memories, clock, revision }
    }

    /// The description that runs.
    #[must_use]
    pub fn description(&self) -> &Description {
        &self.description
    }

    /// Its points.
    #[must_use]
    pub const fn points(&self) -> &Arc<PointTable> {
        &self.inventory.points
    }

    /// The newest reading of each point.
    #[must_use]
    pub fn latest(&self) -> &LatestTable {
        &self.inventory.latest
    }

    /// Points with their readings, and what people call the things around them.
    #[must_use]
    pub const fn inventory(&self) -> &Inventory {
        &self.inventory
    }

    /// The last minutes of each point.
    #[must_use]
    pub const fn recent(&self) -> &Arc<RecentValues> {
        &self.recent
    }

    /// The number of the revision.
    #[must_use]
    pub const fn revision(&self) -> u32 {
        self.revision
    }

    pub(crate) const fn clock(&self) -> &Arc<dyn Clock> {
        &self.clock
    }

    pub(crate) const fn memories(&self) -> &Memories {
        &self.memories
    }

    pub(crate) fn uplinks(&self) -> &[RunningUplink] {
        &self.uplinks
    }

    /// The way to links for something that is done once.
    #[must_use]
    pub fn via(&self) -> Via {
        Via { links: self.links.clone(), memories: self.memories.clone(), clock: Arc::clone(&self.clock) }
    }

    fn link(&self, name: &str) -> Option<&LinkHandle> {
        self.links.iter().find(|link| link.name() == name)
    }

    /// The newest frames of a link, oldest first; `None` when it does not run.
    #[must_use]
    pub fn frames(&self, link: &str, filter: &FrameFilter) -> Option<Vec<FrameView>> {
        Some(self.link(link)?.frames(filter))
    }

    /// Whether a link secures what it says; `None` when it does not run.
    #[must_use]
    pub fn is_secured(&self, link: &str) -> Option<bool> {
        Some(self.link(link)?.protocol().is_secured())
    }

    /// The newest frames of a link as a pcapng file.
    #[must_use]
    pub fn capture(&self, link: &str) -> Option<Vec<u8>> {
        self.link(link)?.capture()
    }

    /// Lets a link count from nothing on again. `false` when it does not run.
    #[must_use]
    pub fn reset_statistics(&self, link: &str) -> bool {
        self.link(link).map(LinkHandle::reset_statistics).is_some()
    }

    /// What a link counted since it runs, or since its counters were reset.
    #[must_use]
    pub fn statistics(&self, link: &str) -> Option<LinkStatistics> {
        Some(self.link(link)?.statistics())
    }

    /// The requests that a link sends: as planned, and what was learned; `None` when it does not run.
    pub async fn requests(&self, link: &str) -> Option<Vec<RequestView>> {
        self.link(link)?.requests(Arc::clone(self.points())).await
    }

    /// Tries anew what was learned about the addresses of a device, or of all behind a link. `false` when the link does
    /// not run.
    pub async fn relearn(&self, link: &str, device: Option<String>) -> bool {
        match self.link(link) {
            Some(running) => running.relearn(device).await,
            None => false,
        }
    }

    /// How the links are.
    #[must_use]
    pub fn link_states(&self) -> Vec<LinkStatus> {
        self.links.iter().map(LinkHandle::status).collect()
    }

    /// How the uplinks are.
    #[must_use]
    pub fn uplink_states(&self) -> Vec<UplinkStatus> {
        let now = self.clock.now();
        self.uplinks.iter().map(|uplink| uplink.status(now)).collect()
    }

    /// How everything is.
    pub(crate) fn status(&self, since: i64, activated_at: i64) -> GatewayStatus {
        let is_good = |info: &PointInfo| self.latest().read(info.index).is_some_and(|read| read.quality.is_good());
        let mut good: HashMap<&str, usize> = HashMap::new();
        // The points of a device stand beside each other.
        for of_device in self.points().all().chunk_by(|one, other| one.device_slot() == other.device_slot()) {
            let Some(first) = of_device.first() else { continue };
            *good.entry(first.device()).or_default() += of_device.iter().filter(|info| is_good(info)).count();
        }
        let mut links = self.link_states();
        for device in links.iter_mut().flat_map(|link| &mut link.devices) {
            device.points_good = good.get(device.name.as_str()).copied().unwrap_or_default();
        }
        GatewayStatus {
            name: self.description.gateway.name.to_string(),
            title: self.description.gateway.title.clone(),
            revision: self.revision,
            activated_at,
            since,
            points: self.points().all().len(),
            points_good: good.values().sum(),
            links,
            uplinks: self.uplink_states(),
        }
    }

    fn uplink(&self, name: &str) -> Option<&RunningUplink> {
        self.uplinks.iter().find(|uplink| uplink.status.read(self.clock.now()).0.name == name)
    }

    /// The buffer of an uplink in full; `None` when it does not run.
    pub async fn buffer(&self, uplink: &str) -> Option<BufferView> {
        self.uplink(uplink)?.ask(UplinkRequest::Buffer).await
    }

    /// What an uplink published last of a point; it is remembered from the first question on. `None` when one of them does
    /// not run.
    pub async fn published(&self, uplink: &str, device: &str, point: &str) -> Option<Option<Published>> {
        let index = self.points().find(device, point)?.index;
        self.uplink(uplink)?.ask(|answer| UplinkRequest::Published(index, answer)).await
    }

    /// Lets a Sparkplug uplink tell everything anew. `false` when it is not online or did so in the last seconds, `None` when it
    /// does not run.
    pub async fn ask_births(&self, uplink: &str) -> Option<bool> {
        self.uplink(uplink)?.ask(UplinkRequest::Births).await
    }

    /// The last messages of an uplink that were made from templates, oldest first; `None` when it does not run.
    pub async fn messages(&self, uplink: &str) -> Option<Vec<SentMessage>> {
        self.uplink(uplink)?.ask(UplinkRequest::Messages).await
    }

    /// Throws away what waits for the broker of an uplink. Tells how many samples that were; `None` when it does not run.
    pub async fn purge(&self, uplink: &str) -> Option<u64> {
        self.uplink(uplink)?.ask(UplinkRequest::Purge).await
    }

    /// Writes an engineering value to a point of the running description, for good, or gives it back: where a value is told, only
    /// while the device holds that.
    ///
    /// # Errors
    /// `None` when there is no such point; else [`WriteError`].
    pub(crate) async fn write(
        &self,
        device: &str,
        point: &str,
        value: CommandValue,
        held: Option<Value>,
    ) -> Option<Result<WriteOutcome, WriteError>> {
        let info = self.points().find(device, point)?;
        let described = self.description.devices.iter().find(|known| known.settings.name.as_str() == device)?;
        let link: &Link = self.description.links.iter().find(|link| link.settings.name == described.settings.link)?;
        let point = info.point().into_owned();
        let (settings, protocol) = (described.settings.clone(), described.protocol.clone());
        let bare = Device { settings, protocol, points: Arc::default() };
        let (value, relinquishes) = match (value, held) {
            (CommandValue::Set(value), _) => (value, Relinquish::No),
            (CommandValue::Relinquish, Some(held)) => (held, Relinquish::IfHeld),
            (CommandValue::Relinquish, None) => (Value::Text(CommandValue::RELINQUISH.into()), Relinquish::Yes),
        };
        let (link, index) = (link.clone(), Some(info.index));
        let write = PointWrite { link, device: bare, point, value, relinquishes, index };
        Some(interlex_field::write(&write, &self.via()).await)
    }
}
