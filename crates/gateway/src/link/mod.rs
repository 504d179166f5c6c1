//! One task a link: connects, polls on schedule, supervises its devices, and feeds the pipeline.

mod backoff;
mod command;
mod driver;
mod frames;
mod owed;
mod schedule;
mod statistics;

pub(crate) use backoff::Backoff;
pub(crate) use command::{Answer, COMMAND_QUEUE, Claim, LinkCommand, Undone};
pub(crate) use frames::FrameRing;
pub use frames::{FrameFilter, FrameView};
pub(crate) use owed::{Carried, Owed, OwedByTarget};
pub(crate) use schedule::PlanView;
pub(crate) use statistics::Statistics;
pub use statistics::{Bar, CountsView, DeviceCounts, ExceptionCount, HistogramView, LinkStatistics, RateView};

use crate::clock::wall_clock;
use crate::modbus::{self, Poll};
use crate::points::{PointTable, plan_of};
use crate::recent::RecentValues;
use crate::status::{DeviceStatus, LinkStatus, Shared};
use crate::uplink::Uplinks;
use driver::Driver;
use interlex_core::description::{Description, DeviceProtocol, Link, LinkProtocol};
use interlex_core::{LatestTable, Pipeline, PointIndex};
use parking_lot::Mutex;
use schedule::Schedule;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// The shortest wait before connecting again.
const FIRST_RECONNECT: Duration = Duration::from_millis(500);

/// What a link needs to run.
pub(crate) struct LinkTask {
    name: String,
    protocol: LinkProtocol,
    devices: Vec<LinkDevice>,
    pipeline: Pipeline,
    latest: Arc<LatestTable>,
    recent: Arc<RecentValues>,
    pub(crate) shown: Shown,
    uplinks: Uplinks,
    commands: mpsc::Receiver<LinkCommand>,
    owed: Owed,
}

/// What a running link shows of itself.
#[derive(Debug, Clone)]
pub(crate) struct Shown {
    pub(crate) status: Arc<Shared<LinkStatus>>,
    pub(crate) statistics: Arc<Mutex<Statistics>>,
    pub(crate) frames: Arc<FrameRing>,
}

/// A device of the link.
struct LinkDevice {
    /// The number that uplinks know it by.
    slot: usize,
    unit: u8,
    retries: u8,
    polls: Vec<Poll>,
}

impl LinkTask {
    /// Prepares a link with everything behind it.
    pub(crate) fn new(
        description: &Description,
        link: &Link,
        points: &PointTable,
        (latest, recent): (Arc<LatestTable>, Arc<RecentValues>),
        uplinks: Uplinks,
        (commands, owed): (mpsc::Receiver<LinkCommand>, Owed),
    ) -> Self {
        let (mut devices, mut statuses, mut plans) = (Vec::new(), Vec::new(), Vec::new());
        for device in description.behind(link.settings.name.as_str()) {
            let name = device.settings.name.as_str();
            let slot = points.slot(name).unwrap_or_default();
            let index =
                |position: usize| points.of_slot(slot).get(position).map_or(PointIndex(u32::MAX), |info| info.index);
            let DeviceProtocol::Modbus(settings) = &device.protocol;
            let polls = modbus::polls(description, device, index);
            plans.extend(device.points.iter().enumerate().map(|(position, point)| (index(position), plan_of(point))));
            statuses.push(DeviceStatus::new(name, &device.settings.title, device.points.len(), polls.len()));
            devices.push(LinkDevice { slot, unit: settings.unit, retries: settings.retries, polls });
        }
        let now = (Instant::now().into_std(), wall_clock());
        let names = statuses.iter().map(|status| status.name.clone()).collect::<Vec<_>>();
        let timing = link.protocol.timing();
        let framing = modbus::framing(&link.protocol);
        let line = timing.baud.map(|baud| {
            let character = Duration::from_secs(timing.bits_per_character.into()) / baud.max(1);
            (character, framing.silence(baud))
        });
        let status = LinkStatus::new(link.settings.name.as_str(), &link.protocol, statuses);
        Self {
            name: link.settings.name.to_string(),
            protocol: link.protocol.clone(),
            devices,
            pipeline: Pipeline::new(Arc::clone(&latest), plans),
            latest,
            recent,
            shown: Shown {
                status: Arc::new(Shared::new(status)),
                statistics: Arc::new(Mutex::new(Statistics::new(names.into_iter(), line, now))),
                frames: Arc::new(FrameRing::new(framing, description.links.len())),
            },
            uplinks,
            commands,
            owed,
        }
    }

    /// Runs until `stop` is cancelled.
    pub(crate) async fn run(mut self, stop: CancellationToken) {
        let mut rng = fastrand::Rng::new();
        let reconnect_limit = Duration::from(self.protocol.timing().reconnect_limit);
        let backoff = Backoff::new(FIRST_RECONNECT, reconnect_limit, rng.fork());
        let polls = self.devices.iter_mut().map(|device| std::mem::take(&mut device.polls)).collect();
        let schedule = Schedule::new(polls, Instant::now().into_std(), &mut rng);
        Driver::new(self, schedule).keep_connected(backoff, &stop).await;
    }
}
