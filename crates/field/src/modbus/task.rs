use super::connect::framing;
use super::driver::Driver;
use super::frames::ModbusFrames;
use super::owed::Owed;
use super::poll::{ModbusPoll, polls};
use crate::link::{FrameLog, FrameRing, LinkCommand, LinkShown, Statistics, Surroundings};
use crate::listeners::Listeners;
use crate::poll::Schedule;
use interlex_core::description::{Description, DeviceProtocol, Link, LinkProtocol, Point, Span};
use interlex_core::{Backoff, Clock, DeviceStatus, LatestTable, LinkStatus, Pipeline, PointIndex, PointPlan, Shared};
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

/// The shortest wait before connecting again.
const FIRST_RECONNECT: Duration = Duration::from_millis(500);

/// What a link needs to run.
pub(crate) struct LinkTask {
    pub(super) name: String,
    pub(super) protocol: LinkProtocol,
    pub(super) devices: Vec<LinkDevice>,
    pub(super) pipeline: Pipeline,
    pub(super) latest: Arc<LatestTable>,
    pub(super) frames: Arc<FrameRing<ModbusFrames>>,
    pub(crate) shown: LinkShown,
    pub(super) listeners: Listeners,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) commands: mpsc::Receiver<LinkCommand>,
    pub(super) owed: Owed,
}

/// A device of the link.
pub(super) struct LinkDevice {
    /// The number that uplinks know it by.
    pub(super) slot: usize,
    pub(super) unit: u8,
    pub(super) retries: u8,
    polls: Vec<ModbusPoll>,
}

impl LinkTask {
    /// Prepares a link with everything behind it.
    pub(crate) fn new(
        description: &Description,
        link: &Link,
        around: &Surroundings,
        (commands, owed): (mpsc::Receiver<LinkCommand>, Owed),
    ) -> Self {
        let Surroundings { points, latest, recent, listeners, clock } = around.clone();
        let (mut devices, mut statuses, mut plans) = (Vec::new(), Vec::new(), Vec::new());
        for device in description.behind(link.settings.name.as_str()) {
            let name = device.settings.name.as_str();
            let slot = points.slot(name).unwrap_or_default();
            let index =
                |position: usize| points.of_slot(slot).get(position).map_or(PointIndex(u32::MAX), |info| info.index);
            let DeviceProtocol::Modbus(settings) = &device.protocol;
            let polls = polls(description, device, index);
            plans.extend(
                device
                    .points
                    .iter()
                    .enumerate()
                    .map(|(position, point)| (index(position), plan_of(description, link, point))),
            );
            statuses.push(DeviceStatus::new(
                name,
                &device.settings.title,
                (device.points.len(), polls.len()),
                clock.now(),
            ));
            devices.push(LinkDevice { slot, unit: settings.unit, retries: settings.retries, polls });
        }
        let units = devices.iter().zip(&statuses).map(|(device, status)| (device.unit, status.name.clone())).collect();
        let frames = ModbusFrames::new(framing(&link.protocol), units);
        let frames = Arc::new(FrameRing::new(frames, description.links.len(), Arc::clone(&clock)));
        let now = (Instant::now().into_std(), clock.now());
        let names = statuses.iter().map(|status| status.name.clone()).collect::<Vec<_>>();
        let timing = link.protocol.timing();
        let framing = framing(&link.protocol);
        let line = timing.baud.map(|baud| {
            let character = Duration::from_secs(timing.bits_per_character.into()) / baud.max(1);
            (character, framing.silence(baud))
        });
        let status = LinkStatus::new(link.settings.name.as_str(), &link.protocol, statuses, now.1);
        Self {
            name: link.settings.name.to_string(),
            protocol: link.protocol.clone(),
            devices,
            pipeline: Pipeline::new(Arc::clone(&latest), recent, plans),
            latest,
            frames: Arc::clone(&frames),
            shown: LinkShown {
                status: Arc::new(Shared::new(status)),
                statistics: Arc::new(Mutex::new(Statistics::new(names.into_iter(), line, now))),
                frames: Arc::clone(&frames) as Arc<dyn FrameLog>,
            },
            listeners,
            clock,
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

fn plan_of(description: &Description, link: &Link, point: &Point) -> PointPlan {
    // The checks let no point pass whose rate is unknown.
    let period = description.rates.get(&point.settings.rate).copied().unwrap_or(Span::from_millis(1000));
    PointPlan::polled(point, period, link.settings.stale_periods)
}
