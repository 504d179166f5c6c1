use crate::clock::wall_clock;
use crate::link::{self, LinkDevice, LinkTask};
use crate::modbus;
use crate::points::{PointTable, plan_of};
use crate::recent::RecentValues;
use crate::status::{DeviceState, DeviceStatus, GatewayStatus, LinkStatus, Shared, UplinkStatus};
use crate::uplink::{self, INPUT_QUEUE, SparkplugTask};
use interlex_core::description::{Description, DeviceProtocol, Link, LinkProtocol, Span};
use interlex_core::{LatestTable, Pipeline, PointIndex};
use interlex_store::Store;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// What a gateway runs with beside its description.
#[derive(Debug, Clone, Default)]
pub struct GatewayOptions {
    /// The number of the revision, to show.
    pub revision: u32,
    /// Where bdSeq and journal are kept; without one they last as long as the process.
    pub store: Option<Store>,
}

/// One running gateway.
#[derive(Debug)]
pub struct Gateway {
    description: Arc<Description>,
    revision: u32,
    since: i64,
    points: Arc<PointTable>,
    latest: Arc<LatestTable>,
    recent: Arc<RecentValues>,
    links: Vec<Arc<Shared<LinkStatus>>>,
    uplinks: Vec<Arc<Shared<UplinkStatus>>>,
    stop_links: CancellationToken,
    stop_uplinks: CancellationToken,
    link_tasks: TaskTracker,
    uplink_tasks: TaskTracker,
}

impl Gateway {
    /// Starts everything that a description describes. What cannot be reached is tried again and again.
    pub async fn start(description: Arc<Description>, options: GatewayOptions) -> Self {
        let points = Arc::new(PointTable::new(&description));
        let count = points.all().len();
        let mut gateway = Self {
            revision: options.revision,
            since: wall_clock().as_millis(),
            latest: Arc::new(LatestTable::new(count)),
            recent: Arc::new(RecentValues::new(count)),
            points,
            description,
            links: Vec::new(),
            uplinks: Vec::new(),
            stop_links: CancellationToken::new(),
            stop_uplinks: CancellationToken::new(),
            link_tasks: TaskTracker::new(),
            uplink_tasks: TaskTracker::new(),
        };
        // Uplinks first, so that no first sample finds nobody to take it.
        let senders = gateway.start_uplinks(options.store).await;
        gateway.start_links(&senders);
        gateway
    }

    async fn start_uplinks(&mut self, store: Option<Store>) -> Vec<mpsc::Sender<uplink::UplinkInput>> {
        let mut senders = Vec::new();
        for settings in &self.description.uplinks {
            let status = Arc::new(Shared::new(uplink::initial_status(settings)));
            let task = SparkplugTask::new(
                &self.description,
                settings.clone(),
                Arc::clone(&self.points),
                Arc::clone(&self.latest),
                Arc::clone(&status),
                store.clone(),
            )
            .await;
            let (sender, receiver) = mpsc::channel(INPUT_QUEUE);
            self.uplink_tasks.spawn(task.run(receiver, self.stop_uplinks.clone()));
            self.uplinks.push(status);
            senders.push(sender);
        }
        self.uplink_tasks.close();
        senders
    }

    fn start_links(&mut self, uplinks: &[mpsc::Sender<uplink::UplinkInput>]) {
        let description = Arc::clone(&self.description);
        for link in &description.links {
            let (task, status) = self.link_task(link, uplinks);
            self.link_tasks.spawn(task.run(self.stop_links.clone()));
            self.links.push(status);
        }
        self.link_tasks.close();
    }

    fn link_task(
        &self,
        link: &Link,
        uplinks: &[mpsc::Sender<uplink::UplinkInput>],
    ) -> (LinkTask, Arc<Shared<LinkStatus>>) {
        let period = |rate: &str| {
            let span = self.description.rates.get(rate).copied().unwrap_or(Span::from_millis(1000));
            Duration::from(span)
        };
        let (mut devices, mut statuses, mut plans) = (Vec::new(), Vec::new(), Vec::new());
        let mut first_of_link = None;
        let all = self.description.devices.iter().enumerate();
        for (index, device) in all.filter(|(_, device)| device.settings.link == link.settings.name) {
            let first = self.points.first_of(index);
            first_of_link.get_or_insert(first);
            let DeviceProtocol::Modbus(settings) = &device.protocol;
            let polls = modbus::polls(device, first, period);
            plans.extend(device.points.iter().map(plan_of));
            statuses.push(DeviceStatus {
                name: device.settings.name.to_string(),
                title: device.settings.title.clone(),
                state: DeviceState::Waiting,
                since: self.since,
                points: device.points.len(),
                requests: polls.len(),
                last_error: None,
                last_error_at: None,
            });
            devices.push(LinkDevice { index, unit: settings.unit, retries: settings.retries, polls });
        }
        let LinkProtocol::ModbusTcp(settings) = &link.protocol;
        let name = link.settings.name.as_str();
        let status = link::initial_status(name, link.protocol.word(), link.protocol.target(), statuses);
        let status = Arc::new(Shared::new(status));
        let first = PointIndex(first_of_link.unwrap_or(0));
        let task = LinkTask {
            settings: settings.clone(),
            devices,
            pipeline: Pipeline::new(Arc::clone(&self.latest), first, plans),
            latest: Arc::clone(&self.latest),
            recent: Arc::clone(&self.recent),
            status: Arc::clone(&status),
            uplinks: uplinks.to_vec(),
        };
        (task, status)
    }

    /// Stops in order: links first, then uplinks, which send what is left, publish their deaths and keep the rest.
    pub async fn stop(&self) {
        self.stop_links.cancel();
        self.link_tasks.wait().await;
        self.stop_uplinks.cancel();
        self.uplink_tasks.wait().await;
    }

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

    /// The last minutes of each point.
    #[must_use]
    pub fn recent(&self) -> &RecentValues {
        &self.recent
    }

    /// What everything is doing right now.
    #[must_use]
    pub fn status(&self) -> GatewayStatus {
        let now = wall_clock();
        let links = self.links.iter().map(|link| {
            let (mut status, rate) = link.read(now);
            status.requests_per_second = rate;
            status
        });
        let uplinks = self.uplinks.iter().map(|uplink| {
            let (mut status, rate) = uplink.read(now);
            status.samples_per_second = rate;
            status
        });
        let readings = self.points.all().iter().filter_map(|info| self.latest.read(info.index));
        GatewayStatus {
            name: self.description.gateway.name.to_string(),
            title: self.description.gateway.title.clone(),
            revision: self.revision,
            since: self.since,
            points: self.points.all().len(),
            points_good: readings.filter(|reading| reading.quality.is_good()).count(),
            links: links.collect(),
            uplinks: uplinks.collect(),
        }
    }
}
