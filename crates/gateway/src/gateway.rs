use crate::activation::{Activation, LinkOutcome, Outcome, UplinkOutcome};
use crate::aside::aside;
use crate::clock::wall_clock;
use crate::host_command::HostCommands;
use crate::lifetime::Lifetimes;
use crate::link::{
    COMMAND_QUEUE, FrameFilter, FrameView, LinkCommand, LinkStatistics, LinkTask, OwedByTarget, PlanView, Shown,
};
use crate::points::{PointInfo, PointTable};
use crate::recent::RecentValues;
use crate::status::{
    BufferView, DeviceState, GatewayStatus, LinkStatus, RequestView, Shared, UplinkState, UplinkStatus,
};
use crate::uplink::{
    INPUT_QUEUE, JsonTask, Published, REQUEST_QUEUE, SentMessage, Shape, SparkplugTask, UplinkInput, UplinkRequest,
    UplinkStart, Uplinks, initial_status, titles,
};
use crate::write::{PointWrite, WriteError, WriteOutcome};
use arc_swap::ArcSwap;
use interlex_core::description::{Description, Device, DeviceProtocol, Link, PartFate, Point, Uplink, UplinkKind};
use interlex_core::{LatestTable, Timestamp, Value};
use interlex_store::{AuditTrail, Store};
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// What a gateway runs with beside its description.
#[derive(Debug, Clone, Default)]
pub struct GatewayOptions {
    /// The number of the revision, to show.
    pub revision: u32,
    /// Where bdSeq and journal are kept; without one they last as long as the process.
    pub store: Option<Store>,
    /// Where it is written down what hosts did; a trail of its own into the store when it is left out.
    pub trail: Option<AuditTrail>,
    /// Whether nothing that hosts command is carried out while the audit trail does not take entries.
    pub is_audit_required: bool,
}

/// One running gateway. Another description can take the place of its own at any time: only what differs is touched.
#[derive(Debug)]
pub struct Gateway {
    store: Option<Store>,
    since: i64,
    recent: Arc<RecentValues>,
    uplinks: Uplinks,
    commands: HostCommands,
    /// What everybody looks at.
    running: Arc<ArcSwap<Running>>,
    /// The tasks, for whoever changes something; one at a time.
    tasks: tokio::sync::Mutex<Tasks>,
}

/// Samples that wait for the broker of an uplink, and that an activation would lose.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, utoipa::ToSchema)]
pub struct WaitingLoss {
    /// The uplink.
    pub uplink: String,
    /// How many.
    pub samples: u64,
    /// Of so many more it is not known, since they are in the database only.
    pub perhaps: u64,
    /// Whether the uplink is online, so that they are being sent.
    pub is_online: bool,
}

impl std::fmt::Display for WaitingLoss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { uplink, samples, perhaps, .. } = self;
        match (samples, perhaps) {
            (1, 0) => write!(f, "1 sample that waits at uplink {uplink} would be lost"),
            (samples, 0) => write!(f, "{samples} samples that wait at uplink {uplink} would be lost"),
            (0, perhaps) => write!(f, "some of {perhaps} samples that wait at uplink {uplink} may be lost"),
            (samples, perhaps) => {
                write!(f, "{samples} samples that wait at uplink {uplink}, and some of {perhaps} more, would be lost")
            }
        }
    }
}

/// What runs right now.
#[derive(Debug)]
pub struct Running {
    description: Arc<Description>,
    points: Arc<PointTable>,
    latest: Arc<LatestTable>,
    links: Vec<RunningLink>,
    uplinks: Vec<RunningUplink>,
    lifetimes: Lifetimes,
    /// The answers that lines still owe.
    pub(crate) owed: OwedByTarget,
    activation: Activation,
}

#[derive(Debug, Clone)]
struct RunningLink {
    shown: Shown,
    commands: mpsc::Sender<LinkCommand>,
    /// Held by whoever writes over the link in several steps.
    writing: Arc<tokio::sync::Mutex<()>>,
}

#[derive(Debug, Clone)]
struct RunningUplink {
    status: Arc<Shared<UplinkStatus>>,
    requests: mpsc::Sender<UplinkRequest>,
}

#[derive(Debug, Default)]
struct Tasks {
    links: Vec<LinkTasks>,
    uplinks: Vec<UplinkTasks>,
}

#[derive(Debug)]
struct LinkTasks {
    name: String,
    running: RunningLink,
    task: Stoppable,
}

#[derive(Debug)]
struct UplinkTasks {
    uplink: Uplink,
    running: RunningUplink,
    sender: mpsc::Sender<UplinkInput>,
    task: Stoppable,
}

/// A task with what ends it.
#[derive(Debug)]
struct Stoppable {
    stop: CancellationToken,
    handle: JoinHandle<()>,
}

impl Stoppable {
    async fn stop(self) {
        self.stop.cancel();
        if let Err(error) = self.handle.await {
            tracing::error!(%error, "a task of the gateway failed");
        }
    }
}

impl Running {
    /// The description that runs.
    #[must_use]
    pub fn description(&self) -> &Description {
        &self.description
    }

    /// Its points.
    #[must_use]
    pub fn points(&self) -> &Arc<PointTable> {
        &self.points
    }

    /// The newest reading of each point.
    #[must_use]
    pub fn latest(&self) -> &LatestTable {
        &self.latest
    }

    /// The number of the revision.
    #[must_use]
    pub const fn revision(&self) -> u32 {
        self.activation.revision
    }

    /// The queue of the running link that leads to the same place, if it is up, and what writers hold.
    pub(crate) fn link_to(&self, target: &str) -> Option<(mpsc::Sender<LinkCommand>, Arc<tokio::sync::Mutex<()>>)> {
        let same = |link: &&RunningLink| {
            let (status, _) = link.shown.status.read(wall_clock());
            status.target == target && status.state == crate::LinkState::Up
        };
        self.links.iter().find(same).map(|link| (link.commands.clone(), Arc::clone(&link.writing)))
    }

    fn link(&self, name: &str) -> Option<&RunningLink> {
        self.links.iter().find(|link| link.shown.status.read(wall_clock()).0.name == name)
    }

    /// The device behind a link that has a unit identifier.
    fn device_of(&self, link: &str, unit: u8) -> Option<String> {
        let is_unit = |device: &&Device| {
            let DeviceProtocol::Modbus(modbus) = &device.protocol;
            modbus.unit == unit
        };
        self.description.behind(link).find(is_unit).map(|device| device.settings.name.to_string())
    }

    /// The newest frames of a link, oldest first; `None` when it does not run. With the name of a device, those of its
    /// unit only.
    #[must_use]
    pub fn frames(&self, link: &str, device: Option<&str>, filter: FrameFilter) -> Option<Vec<FrameView>> {
        let running = self.link(link)?;
        let named = device.and_then(|name| self.description.behind(link).find(|d| d.settings.name.as_str() == name));
        let unit = named.map(|device| {
            let DeviceProtocol::Modbus(modbus) = &device.protocol;
            modbus.unit
        });
        let filter = FrameFilter { unit: unit.or(filter.unit), ..filter };
        Some(running.shown.frames.view(filter, |unit| self.device_of(link, unit)))
    }

    /// The newest frames of a link as a pcapng file.
    #[must_use]
    pub fn capture(&self, link: &str) -> Option<Vec<u8>> {
        let written = crate::capture::pcapng(&self.link(link)?.shown.frames, link);
        // Writing into memory fails only for frames longer than any that a link takes in.
        written.inspect_err(|error| tracing::error!(link, %error, "the recording cannot be written")).ok()
    }

    /// Lets a link count from nothing on again. `false` when it does not run.
    #[must_use]
    pub fn reset_statistics(&self, link: &str) -> bool {
        let Some(running) = self.link(link) else { return false };
        let now = tokio::time::Instant::now().into_std();
        running.shown.statistics.lock().reset((now, wall_clock()));
        true
    }

    /// What a link counted since it runs, or since its counters were reset.
    #[must_use]
    pub fn statistics(&self, link: &str) -> Option<LinkStatistics> {
        let running = self.link(link)?;
        let now = tokio::time::Instant::now().into_std();
        Some(running.shown.statistics.lock().view(now))
    }

    /// The requests that a link sends: as planned, and what was learned; `None` when it does not run.
    pub async fn requests(&self, link: &str) -> Option<Vec<RequestView>> {
        let running = self.link(link)?;
        let (answer, answered) = tokio::sync::oneshot::channel();
        running.commands.send(LinkCommand::Plan(answer)).await.ok()?;
        let names: Vec<_> = running.shown.status.read(wall_clock()).0.devices.into_iter().map(|d| d.name).collect();
        let views = answered.await.ok()?;
        Some(views.iter().map(|view| self.request_view(&names, view)).collect())
    }

    fn request_view(&self, devices: &[String], view: &PlanView) -> RequestView {
        let request = view.poll.request;
        let names = view.poll.points().filter_map(|index| self.points.get(index)).map(|info| info.name().to_owned());
        let milliseconds = |span: std::time::Duration| u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
        RequestView {
            device: devices.get(view.device).cloned().unwrap_or_default(),
            table: request.table().words(),
            first: request.address(),
            last: request.address() + (request.quantity() - 1),
            period_ms: milliseconds(view.poll.period),
            points: names.collect(),
            as_planned: view.is_whole,
            bad: view.bad.map(crate::reason_words),
            whole_again_in_ms: view.retry_in.map(milliseconds),
        }
    }

    /// How the links are.
    pub(crate) fn link_states(&self) -> Vec<LinkStatus> {
        links_of(self)
    }

    /// The names of the links.
    #[must_use]
    pub fn link_names(&self) -> Vec<String> {
        self.description.links.iter().map(|link| link.settings.name.to_string()).collect()
    }

    fn uplink(&self, name: &str) -> Option<&RunningUplink> {
        self.uplinks.iter().find(|uplink| uplink.status.read(wall_clock()).0.name == name)
    }

    /// The buffer of an uplink in full; `None` when it does not run.
    pub async fn buffer(&self, uplink: &str) -> Option<BufferView> {
        let (answer, answered) = tokio::sync::oneshot::channel();
        self.uplink(uplink)?.requests.send(UplinkRequest::Buffer(answer)).await.ok()?;
        answered.await.ok()
    }

    /// What is known of the points, for messages.
    pub(crate) fn shape(&self) -> Shape {
        let links = self.link_names().into();
        let (points, latest) = (Arc::clone(&self.points), Arc::clone(&self.latest));
        Shape { points, latest, links, titles: titles(&self.description) }
    }

    /// What an uplink published last of a point; it is remembered from the first question on. `None` when one of them does
    /// not run.
    pub async fn published(&self, uplink: &str, device: &str, point: &str) -> Option<Option<Published>> {
        let (answer, answered) = tokio::sync::oneshot::channel();
        let index = self.points.find(device, point)?.index;
        self.uplink(uplink)?.requests.send(UplinkRequest::Published(index, answer)).await.ok()?;
        answered.await.ok()
    }

    /// Lets a Sparkplug uplink tell everything anew. `false` when it is not online or did so in the last seconds, `None` when it
    /// does not run.
    pub async fn ask_births(&self, uplink: &str) -> Option<bool> {
        let (answer, answered) = tokio::sync::oneshot::channel();
        self.uplink(uplink)?.requests.send(UplinkRequest::Births(answer)).await.ok()?;
        answered.await.ok()
    }

    /// The last messages of an uplink that were made from templates, oldest first; `None` when it does not run.
    pub async fn messages(&self, uplink: &str) -> Option<Vec<SentMessage>> {
        let (answer, answered) = tokio::sync::oneshot::channel();
        self.uplink(uplink)?.requests.send(UplinkRequest::Messages(answer)).await.ok()?;
        answered.await.ok()
    }

    /// Throws away what waits for the broker of an uplink. Tells how many samples that were; `None` when it does not run.
    pub async fn purge(&self, uplink: &str) -> Option<u64> {
        let (answer, answered) = tokio::sync::oneshot::channel();
        self.uplink(uplink)?.requests.send(UplinkRequest::Purge(answer)).await.ok()?;
        answered.await.ok()
    }

    /// Tries anew what was learned about the addresses of a device, or of all behind a link. `false` when the link does
    /// not run.
    pub async fn relearn(&self, link: &str, device: Option<String>) -> bool {
        let Some(running) = self.link(link) else { return false };
        running.commands.send(LinkCommand::Relearn(device)).await.is_ok()
    }

    /// Until when the commanded value of a point holds, in milliseconds since 1970 UTC; `None` when it holds for good.
    #[must_use]
    pub fn commanded_until(&self, info: &PointInfo) -> Option<i64> {
        info.settings().lifetime?;
        self.lifetimes.until(&info.device, info.name()).map(Timestamp::as_millis)
    }

    /// Writes an engineering value to a point of the running description. It holds for the lifetime of the point, where
    /// that has one.
    ///
    /// # Errors
    /// `None` when there is no such point; else [`WriteError`].
    pub async fn write(&self, device: &str, point: &str, value: Value) -> Option<Result<WriteOutcome, WriteError>> {
        let info = self.points.find(device, point)?;
        let _order = self.lifetimes.order(device, point).await;
        let before = self.lifetimes.until(device, point);
        self.lifetimes.begin(device, info, &value).await;
        let outcome = self.write_unwatched(device, point, value).await;
        let is_refused =
            matches!(outcome, Some(Err(WriteError::Refused(_) | WriteError::Value(_) | WriteError::Trial(_))));
        // A device that gave no answer may have taken the value all the same: of two moments, the one that is there.
        let is_unknown = matches!(outcome, Some(Err(WriteError::Unknown { .. })));
        if is_refused || (is_unknown && self.lifetimes.until(device, point).is_none()) {
            self.lifetimes.restore(device, point, before).await;
        }
        outcome
    }

    /// The same, for good.
    pub(crate) async fn write_unwatched(
        &self,
        device: &str,
        point: &str,
        value: Value,
    ) -> Option<Result<WriteOutcome, WriteError>> {
        let info = self.points.find(device, point)?;
        let described = self.description.devices.iter().find(|known| known.settings.name.as_str() == device)?;
        let link = self.description.links.iter().find(|link| link.settings.name == described.settings.link)?;
        let point = Point::clone(described.points.get(info.position)?);
        let (settings, protocol) = (described.settings.clone(), described.protocol.clone());
        let bare = Device { settings, protocol, points: Vec::new() };
        let write = PointWrite { link: link.clone(), device: bare, point, value, index: Some(info.index) };
        Some(write.run(Some(self)).await)
    }
}

impl Gateway {
    /// Starts everything that a description describes. What cannot be reached is tried again and again.
    pub async fn start(description: Arc<Description>, options: GatewayOptions) -> Self {
        let trail = options.trail.or_else(|| options.store.clone().map(AuditTrail::new));
        let nothing = Running {
            description: Arc::new(Description::empty(&description)),
            points: Arc::default(),
            latest: Arc::new(LatestTable::new(0)),
            links: Vec::new(),
            uplinks: Vec::new(),
            lifetimes: Lifetimes::new(description.gateway.name.as_str(), options.store.clone(), trail.clone()).await,
            owed: OwedByTarget::default(),
            activation: Activation::default(),
        };
        let lifetimes = nothing.lifetimes.clone();
        let running = Arc::new(ArcSwap::from_pointee(nothing));
        let gateway = Self {
            commands: HostCommands::start(Arc::clone(&running), trail, options.is_audit_required),
            store: options.store,
            since: wall_clock().as_millis(),
            recent: Arc::default(),
            uplinks: Uplinks::default(),
            running,
            tasks: tokio::sync::Mutex::default(),
        };
        gateway.activate(description, options.revision).await;
        lifetimes.watch(&gateway.running);
        gateway
    }

    /// Lets a description take the place of the one that runs. Links that ask for the same things in the same way go
    /// on without a gap, and uplinks with the same settings stay connected.
    pub async fn activate(&self, description: Arc<Description>, revision: u32) {
        let mut tasks = self.tasks.lock().await;
        let before = self.running.load_full();
        let points = Arc::new(aside(|| PointTable::new(&description, &before.points)));
        let latest = Arc::new(aside(|| before.latest.grown(points.indices())));
        aside(|| self.recent.grow(points.indices()));
        let mut activation = Activation { revision, at: wall_clock().as_millis(), ..Activation::default() };

        self.stop_links(&mut tasks, &before, &description, &mut activation).await;
        for index in points.redefined(&before.points) {
            latest.forget(index);
            self.recent.forget(index);
        }
        // Uplinks first, so that no first sample finds nobody to take it.
        let links = description.links.iter().map(|link| link.settings.name.to_string()).collect();
        let titles = titles(&description);
        let shape = Shape { points: Arc::clone(&points), latest: Arc::clone(&latest), links, titles };
        self.change_uplinks(&mut tasks, &description, &shape, &mut activation).await;
        self.start_links(&mut tasks, &description, (&shape, &before.owed), &mut activation);

        let links = tasks.links.iter().map(|link| link.running.clone()).collect();
        let uplinks = tasks.uplinks.iter().map(|uplink| uplink.running.clone()).collect();
        let (lifetimes, owed) = (before.lifetimes.clone(), before.owed.clone());
        let running = Running { description, points, latest, links, uplinks, lifetimes, owed, activation };
        self.running.store(Arc::new(running));
    }

    /// The samples that wait for brokers and that a description in the place of the running one would lose, since their
    /// uplinks or points are not in it.
    pub async fn would_lose(&self, description: &Description) -> Vec<WaitingLoss> {
        let running = self.running();
        let points = Arc::new(aside(|| PointTable::new(description, &running.points)));
        let is_gone = |info: &PointInfo| points.get(info.index).is_none();
        let removes_points = running.points.all().iter().any(is_gone);
        let mut losses = Vec::new();
        for uplink in &running.uplinks {
            let (status, _) = uplink.status.read(wall_clock());
            let is_online = status.state == UplinkState::Online;
            let loss = |samples, perhaps| WaitingLoss { uplink: status.name.clone(), samples, perhaps, is_online };
            if !description.uplinks.iter().any(|other| other.settings.name.as_str() == status.name) {
                losses.push(loss(status.buffer.waiting, 0));
            } else if removes_points {
                let (answer, answered) = tokio::sync::oneshot::channel();
                if uplink.requests.send(UplinkRequest::WouldLose(Arc::clone(&points), answer)).await.is_ok()
                    && let Ok(told) = answered.await
                {
                    losses.push(loss(told.certainly, told.perhaps));
                }
            }
        }
        losses.retain(|loss| loss.samples + loss.perhaps > 0);
        losses
    }

    /// Stops the links that are gone or differ.
    async fn stop_links(&self, tasks: &mut Tasks, before: &Running, after: &Description, activation: &mut Activation) {
        let (mut kept, mut ended) = (Vec::new(), Vec::new());
        for link in tasks.links.drain(..) {
            let is_described = after.links.iter().any(|other| other.settings.name.as_str() == link.name);
            if is_described && before.description.runs_the_same(after, &link.name) {
                activation.links.push((link.name.clone(), PartFate::Untouched));
                show_titles(&link.running.shown.status, after);
                kept.push(link);
            } else {
                let fate = if is_described { PartFate::Restarted } else { PartFate::Stopped };
                activation.links.push((link.name, fate));
                ended.push(link.task);
            }
        }
        ended.iter().for_each(|task| task.stop.cancel());
        for task in ended {
            task.stop().await;
        }
        tasks.links = kept;
    }

    fn start_links(
        &self,
        tasks: &mut Tasks,
        description: &Description,
        (shape, owed): (&Shape, &OwedByTarget),
        activation: &mut Activation,
    ) {
        let mut kept: Vec<_> = std::mem::take(&mut tasks.links);
        for link in &description.links {
            let name = link.settings.name.as_str();
            let running = match kept.iter().position(|running| running.name == name) {
                Some(at) => kept.swap_remove(at),
                None => aside(|| self.start_link(description, link, shape, owed)),
            };
            if !activation.links.iter().any(|(known, _)| known == name) {
                activation.links.push((name.to_owned(), PartFate::Started));
            }
            tasks.links.push(running);
        }
    }

    fn start_link(
        &self,
        description: &Description,
        link: &Link,
        Shape { points, latest, .. }: &Shape,
        owed: &OwedByTarget,
    ) -> LinkTasks {
        let (sender, commands) = mpsc::channel(COMMAND_QUEUE);
        let own = (Arc::clone(latest), Arc::clone(&self.recent));
        let task = LinkTask::new(
            description,
            link,
            points,
            own,
            self.uplinks.clone(),
            (commands, owed.of(&link.protocol.target())),
        );
        let (shown, stop) = (task.shown.clone(), CancellationToken::new());
        let handle = tokio::spawn(task.run(stop.clone()));
        let running = RunningLink { shown, commands: sender, writing: Arc::default() };
        LinkTasks { name: link.settings.name.to_string(), running, task: Stoppable { stop, handle } }
    }

    /// Tells uplinks that stay what the points are now; stops and starts the others.
    async fn change_uplinks(
        &self,
        tasks: &mut Tasks,
        description: &Description,
        shape: &Shape,
        activation: &mut Activation,
    ) {
        let mut before = std::mem::take(&mut tasks.uplinks);
        let mut starting = Vec::new();
        for wanted in &description.uplinks {
            let at = before.iter().position(|running| running.uplink.settings.name == wanted.settings.name);
            let known = at.map(|at| before.swap_remove(at));
            let name = wanted.settings.name.to_string();
            match known {
                Some(same) if same.uplink == *wanted => {
                    activation.uplinks.push((name, PartFate::Untouched));
                    let told = UplinkInput::Points(shape.clone());
                    // An error means that the uplink has ended, at shutdown.
                    let _ = same.sender.send(told).await;
                    tasks.uplinks.push(same);
                }
                other => {
                    let fate = if other.is_some() { PartFate::Restarted } else { PartFate::Started };
                    activation.uplinks.push((name, fate));
                    starting.push((wanted.clone(), other, mpsc::channel(INPUT_QUEUE)));
                }
            }
        }
        // From here on links tell the new ones, too, whose queues hold it until they run: nothing falls between.
        let senders = tasks.uplinks.iter().map(|uplink| uplink.sender.clone());
        self.uplinks.set(senders.chain(starting.iter().map(|(.., (sender, _))| sender.clone())).collect());
        for gone in before {
            activation.uplinks.push((gone.uplink.settings.name.to_string(), PartFate::Stopped));
            gone.task.stop().await;
        }
        for (uplink, old, (sender, receiver)) in starting {
            if let Some(old) = old {
                // It keeps what is unproven in the journal, where the new one finds it.
                old.task.stop().await;
            }
            let status = Arc::new(Shared::new(initial_status(&uplink).await));
            let (requests, asked) = mpsc::channel(REQUEST_QUEUE);
            let start = UplinkStart {
                gateway: description.gateway.name.to_string(),
                title: description.gateway.title.clone(),
                uplink: uplink.clone(),
                shape: shape.clone(),
                status: Arc::clone(&status),
                running: Arc::clone(&self.running),
                store: self.store.clone(),
                commands: self.commands.clone(),
                requests: asked,
            };
            let stop = CancellationToken::new();
            let handle = match &uplink.kind {
                UplinkKind::Sparkplug(own) => {
                    let task = SparkplugTask::new(start, own.clone()).await;
                    tokio::spawn(task.run(receiver, stop.clone()))
                }
                UplinkKind::Json(own) => {
                    let task = JsonTask::new(start, own.clone()).await;
                    tokio::spawn(task.run(receiver, stop.clone()))
                }
            };
            tell_devices_up(&tasks.links, &shape.points, &sender).await;
            let (running, task) = (RunningUplink { status, requests }, Stoppable { stop, handle });
            tasks.uplinks.push(UplinkTasks { uplink, running, sender, task });
        }
        let place = |running: &UplinkTasks| {
            description.uplinks.iter().position(|uplink| uplink.settings.name == running.uplink.settings.name)
        };
        tasks.uplinks.sort_by_key(place);
    }

    /// Stops in order: links first, then uplinks, which send what is left, publish their deaths and keep the rest.
    pub async fn stop(&self) {
        let mut tasks = self.tasks.lock().await;
        let Tasks { links, uplinks } = std::mem::take(&mut *tasks);
        links.iter().for_each(|link| link.task.stop.cancel());
        for link in links {
            link.task.stop().await;
        }
        uplinks.iter().for_each(|uplink| uplink.task.stop.cancel());
        for uplink in uplinks {
            uplink.task.stop().await;
        }
    }

    /// What runs right now: a consistent view, whatever is activated meanwhile.
    #[must_use]
    pub fn running(&self) -> Arc<Running> {
        self.running.load_full()
    }

    /// The last minutes of each point.
    #[must_use]
    pub fn recent(&self) -> &RecentValues {
        &self.recent
    }

    /// What everything is doing right now.
    #[must_use]
    pub fn status(&self) -> GatewayStatus {
        let running = self.running();
        let readings = running.points.all().iter().filter_map(|info| running.latest.read(info.index));
        GatewayStatus {
            name: running.description.gateway.name.to_string(),
            title: running.description.gateway.title.clone(),
            revision: running.activation.revision,
            activated_at: running.activation.at,
            since: self.since,
            points: running.points.all().len(),
            points_good: readings.filter(|reading| reading.quality.is_good()).count(),
            links: links_of(&running),
            uplinks: uplinks_of(&running),
        }
    }

    /// What became of the last activation, link by link and uplink by uplink.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let running = self.running();
        let (links, uplinks) = (links_of(&running), uplinks_of(&running));
        let link = |(name, fate): &(String, PartFate)| {
            LinkOutcome::new(name, *fate, links.iter().find(|status| status.name == *name))
        };
        let uplink = |(name, fate): &(String, PartFate)| {
            UplinkOutcome::new(name, *fate, uplinks.iter().find(|status| status.name == *name))
        };
        let activation = &running.activation;
        Outcome::new(
            activation,
            activation.links.iter().map(link).collect(),
            activation.uplinks.iter().map(uplink).collect(),
        )
    }
}

fn links_of(running: &Running) -> Vec<LinkStatus> {
    let now = wall_clock();
    let read = |link: &RunningLink| {
        let (mut status, rate) = link.shown.status.read(now);
        status.requests_per_second = rate;
        status
    };
    running.links.iter().map(read).collect()
}

fn uplinks_of(running: &Running) -> Vec<UplinkStatus> {
    let now = wall_clock();
    let read = |uplink: &RunningUplink| {
        let (mut status, rate) = uplink.status.read(now);
        status.samples_per_second = rate;
        status
    };
    running.uplinks.iter().map(read).collect()
}

/// A title changes nothing on the line, and shows all the same.
fn show_titles(status: &Shared<LinkStatus>, description: &Description) {
    status.update(|status, _| {
        for shown in &mut status.devices {
            let device = description.devices.iter().find(|device| device.settings.name.as_str() == shown.name);
            shown.title = device.map(|device| device.settings.title.clone()).unwrap_or_default();
        }
    });
}

/// Tells a new uplink which devices of the links that went on are up. The state is read and told in one step, so
/// that what a link tells meanwhile comes after it.
async fn tell_devices_up(links: &[LinkTasks], points: &PointTable, uplink: &mpsc::Sender<UplinkInput>) {
    for link in links {
        let count = link.running.shown.status.read(wall_clock()).0.devices.len();
        for at in 0..count {
            let Ok(permit) = uplink.reserve().await else { return };
            link.running.shown.status.update(|status, _| {
                let up = status.devices.get(at).filter(|device| device.state == DeviceState::Up);
                if let Some(slot) = up.and_then(|device| points.slot(&device.name)) {
                    permit.send(UplinkInput::DeviceUp(slot));
                }
            });
        }
    }
}
