use super::command::{CommandId, Leaving, Pending};
use super::handle::{LinkShown, Surroundings};
use super::outcomes::{DeviceEvent, Outcome, Outcomes};
use super::plan::{LinkPlan, PlannedDevice};
use super::settler::Told;
use super::told::{ToldEvent, ToldEvents};
use super::traffic::Traffic;
use interlex_core::description::{Link, Span};
use interlex_core::{
    DataType, DeviceState, DeviceStatus, FieldEvent, LatestTable, LinkState, Moment, Pipeline, PointIndex, PointInfo,
    PointPlan, PointTable, Quality, RawSample, Reason, Sample, Semantics,
};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// What every link has beside its driver: its pipeline, its listeners, what it shows, and who waits for an answer.
pub(super) struct Floor {
    plan: LinkPlan,
    pipeline: Pipeline,
    latest: Arc<LatestTable>,
    around: Surroundings,
    shown: LinkShown,
    pending: BTreeMap<CommandId, (Instant, Pending)>,
    /// Whoever makes safe what has to be.
    told: mpsc::Sender<Told>,
    batch: Vec<RawSample>,
    reported: Vec<Sample>,
}

/// How the points of a link are treated, with what their devices were found to say of them.
fn plans<'a>(plan: &'a LinkPlan, known: &'a PointTable) -> impl Iterator<Item = (PointIndex, PointPlan)> + 'a {
    let stale = plan.link.settings.stale_periods;
    let devices = plan.devices.iter();
    let points = devices.flat_map(|planned| planned.points.iter().copied().zip(&*planned.device.points));
    let of_point = move |(index, point): (PointIndex, &Arc<interlex_core::description::Point>)| {
        // The checks let no point pass whose rate is unknown.
        let period = plan.rates.get(&point.settings.rate).copied().unwrap_or(Span::from_millis(1000));
        let point = known.get(index).map_or(Cow::Borrowed(&**point), PointInfo::point);
        (index, PointPlan::polled(&point, period, stale))
    };
    points.map(of_point)
}

impl Floor {
    pub(super) fn new(plan: LinkPlan, shown: LinkShown, around: &Surroundings, told: mpsc::Sender<Told>) -> Self {
        let latest = Arc::clone(&around.latest);
        Self {
            pipeline: Pipeline::new(
                Arc::clone(&latest),
                Arc::clone(&around.recent),
                plans(&plan, &around.points).collect(),
            ),
            plan,
            latest,
            around: around.clone(),
            shown,
            pending: BTreeMap::new(),
            told,
            batch: Vec::new(),
            reported: Vec::new(),
        }
    }

    pub(super) const fn link(&self) -> &Link {
        &self.plan.link
    }

    fn name(&self) -> &str {
        self.plan.link.settings.name.as_str()
    }

    /// The place of a device by its name.
    pub(super) fn place(&self, device: &str) -> Option<usize> {
        self.plan.devices.iter().position(|planned| planned.device.settings.name.as_str() == device)
    }

    fn now(&self) -> Moment {
        Moment { wall: self.around.clock.now(), instant: Instant::now().into_std() }
    }

    /// How many commands wait for their answers.
    pub(super) fn pending(&self) -> usize {
        self.pending.len()
    }

    /// A command was taken.
    pub(super) fn expect(&mut self, id: CommandId, deadline: Instant, answer: Pending) {
        self.pending.insert(id, (deadline, answer));
    }

    /// Commands that nobody waits for any more, or whose deadline has come, and why they are given up.
    pub(super) fn unwanted(&self) -> Vec<(CommandId, &'static str)> {
        let now = Instant::now();
        let why = |(id, (deadline, answer)): (&CommandId, &(Instant, Pending))| {
            let is_late = (now >= *deadline).then_some((*id, "the link is busy"));
            is_late.or_else(|| answer.is_closed().then_some((*id, "whoever asked has gone")))
        };
        self.pending.iter().filter_map(why).collect()
    }

    /// When something is due that the driver knows nothing of.
    pub(super) fn deadline(&self) -> Option<std::time::Instant> {
        let commands = self.pending.values().map(|(deadline, _)| deadline.into_std());
        commands.chain(self.pipeline.deadline()).min()
    }

    /// Tells what time alone has made due.
    pub(super) async fn handle_deadline(&mut self) {
        let now = self.now();
        if self.pipeline.deadline().is_some_and(|at| now.instant >= at) {
            self.reported.clear();
            self.pipeline.handle_deadline(now, &mut self.reported);
            self.tell_reported().await;
        }
    }

    /// The session is up.
    pub(super) fn connected(&self) {
        let now = self.now();
        self.shown.statistics.lock().up(now.instant);
        let at = now.wall.as_millis();
        tracing::info!(link = self.name(), "connected");
        self.shown.status.update(|status, _| {
            (status.state, status.since) = (LinkState::Up, at);
            for device in &mut status.devices {
                (device.state, device.since) = (DeviceState::Waiting, at);
            }
        });
        // What was bad since the link was down is bad from now on since it was not read yet.
        for place in 0..self.plan.devices.len() {
            self.relabel(place, Reason::LinkDown, Reason::NotReadYet, now);
        }
    }

    /// Points of a device that are bad for a reason that does not hold any more are bad for another. No news for listeners.
    fn relabel(&self, place: usize, before: Reason, after: Reason, now: Moment) {
        for point in self.plan.devices.get(place).into_iter().flat_map(|planned| &*planned.points) {
            let quality = self.latest.read(*point).map(|reading| reading.quality);
            if quality == Some(Quality::Bad(before)) && self.pipeline.has(*point) {
                self.latest.store(*point, None, Quality::Bad(after), now.wall, now.wall);
            }
        }
    }

    /// The session is gone, or did not come: every point of the link is bad, every device is lost.
    pub(super) async fn lost(&mut self, error: &str) {
        let now = self.now();
        let at = now.wall.as_millis();
        let mut was_down = false;
        self.shown.status.update(|status, _| {
            was_down = status.state == LinkState::Down;
            if !was_down {
                (status.state, status.since) = (LinkState::Down, at);
                for device in &mut status.devices {
                    (device.state, device.since) = (DeviceState::Unreachable, at);
                }
            }
            (status.last_error, status.last_error_at) = (Some(error.to_owned()), Some(at));
        });
        if was_down {
            tracing::debug!(link = self.name(), error, "still down");
            return;
        }
        tracing::warn!(link = self.name(), error, "link down");
        for place in 0..self.plan.devices.len() {
            self.device_down(place).await;
            self.fail(place, Reason::LinkDown, now).await;
        }
    }

    /// Carries on what the driver has told, in its order.
    pub(super) async fn carry_on(&mut self, out: &mut Outcomes) {
        let (mut list, samples) = out.take();
        let (now, mut rest) = (self.now(), samples.as_slice());
        for outcome in list.drain(..) {
            match outcome {
                Outcome::Samples(count) => {
                    let (batch, after) = rest.split_at_checked(count).unwrap_or((rest, &[]));
                    rest = after;
                    self.publish(batch, now).await;
                }
                Outcome::Told(told) => self.keep(told, now).await,
                Outcome::Events { place, repeated, untimed } => {
                    self.shown.statistics.lock().add_events(place, repeated, untimed, now.instant);
                }
                Outcome::Confirmed(points) => self.pipeline.confirm(points, now),
                Outcome::Device(place, event) => self.device_event(place, event, now).await,
                Outcome::Done { devices, counted, took } => {
                    self.shown.statistics.lock().add(&devices, counted, took, now.instant);
                }
                Outcome::Sent { lateness } => {
                    self.shown.statistics.lock().sent(lateness);
                    let lateness_ms = u64::try_from(lateness.as_millis()).unwrap_or(u64::MAX);
                    self.shown.status.update(|status, _| status.lateness_ms = lateness_ms);
                }
                Outcome::Polled { period, interval, lateness } => {
                    self.shown.statistics.lock().polled(period, interval, lateness);
                }
                Outcome::Traffic(traffic) => self.count(traffic, now),
                Outcome::Answered(id, answer) => {
                    if let Some((_, asker)) = self.pending.remove(&id) {
                        // Whoever asked may have gone.
                        let _ = asker.send(answer);
                    }
                }
            }
        }
        out.give_back((list, samples));
    }

    /// What was told is to be safe, and stands in the sequence of events.
    async fn keep(&self, ToldEvents { place, ticket, source, events }: ToldEvents, now: Moment) {
        let Some(planned) = self.plan.devices.get(place) else { return };
        let shaped = |told: ToldEvent| {
            let value = told.point.zip(told.value.as_ref()).and_then(|(point, raw)| self.pipeline.shaped(point, raw));
            (told, value)
        };
        let told = Told {
            ticket,
            source,
            kept: self.around.listeners.keep().await,
            device: planned.device.settings.name.as_str().into(),
            points: Arc::clone(&self.around.points),
            arrived: now.wall,
            events: events.into_iter().map(shaped).collect(),
        };
        // Whoever waits for a ticket leaves room for it. Others are told as many as there is room for.
        if self.told.try_send(told).is_err() {
            let why = "changes are missing in the sequence of events: the database is too slow";
            self.with_device(place, |device| {
                (device.last_error, device.last_error_at) = (Some(why.to_owned()), Some(now.wall.as_millis()));
            });
        }
    }

    fn count(&self, traffic: Traffic, now: Moment) {
        self.shown.statistics.lock().traffic(traffic);
        self.shown.status.update(|status, meter| {
            status.requests += traffic.requests;
            status.answers += traffic.answers;
            status.timeouts += traffic.timeouts;
            status.refusals += traffic.refusals;
            meter.add(now.wall, u32::try_from(traffic.requests).unwrap_or(u32::MAX));
        });
    }

    async fn publish(&mut self, batch: &[RawSample], now: Moment) {
        self.reported.clear();
        self.pipeline.process(batch, now, &mut self.reported);
        self.tell_reported().await;
    }

    async fn tell_reported(&mut self) {
        if !self.reported.is_empty() && !self.around.listeners.is_empty() {
            let samples: Arc<[Sample]> = self.reported.as_slice().into();
            self.around.listeners.tell(FieldEvent::Samples(samples)).await;
        }
    }

    /// All points of a device are bad.
    async fn fail(&mut self, place: usize, reason: Reason, now: Moment) {
        let mut batch = std::mem::take(&mut self.batch);
        batch.clear();
        let points = self.plan.devices.get(place).into_iter().flat_map(|planned| &*planned.points);
        batch.extend(points.map(|point| RawSample::failed(*point, reason)));
        self.publish(&batch, now).await;
        self.batch = batch;
    }

    async fn device_down(&self, place: usize) {
        if let Some(planned) = self.plan.devices.get(place) {
            self.around.listeners.tell(FieldEvent::DeviceDown(planned.slot)).await;
        }
    }

    async fn device_event(&mut self, place: usize, event: DeviceEvent, now: Moment) {
        let at = now.wall.as_millis();
        match event {
            DeviceEvent::Up => {
                let Some(planned) = self.plan.devices.get(place) else { return };
                tracing::info!(link = self.name(), device = planned.device.settings.name.as_str(), "device up");
                self.with_device(place, |device| (device.state, device.since) = (DeviceState::Up, at));
                self.around.listeners.tell(FieldEvent::DeviceUp(planned.slot)).await;
            }
            DeviceEvent::Silent(reason, why) => {
                let mut was_silent = true;
                self.with_device(place, |device| {
                    was_silent = device.state == DeviceState::Silent;
                    if !was_silent {
                        (device.state, device.since) = (DeviceState::Silent, at);
                    }
                });
                if !was_silent {
                    tracing::warn!(link = self.name(), why, "device silent");
                }
                self.with_device(place, |device| (device.last_error, device.last_error_at) = (Some(why), Some(at)));
                if !was_silent {
                    // Listeners may know it as up from before the link was started anew.
                    self.device_down(place).await;
                    self.fail(place, reason, now).await;
                } else {
                    // Points that it was given since.
                    self.relabel(place, Reason::NeverRead, reason, now);
                }
            }
            DeviceEvent::Error(why) => {
                self.with_device(place, |device| (device.last_error, device.last_error_at) = (Some(why), Some(at)));
            }
            DeviceEvent::Types(types) => self.retype(place, &types).await,
            DeviceEvent::Semantics(told) => self.learn(place, told).await,
            DeviceEvent::Requests(requests) => self.with_device(place, |device| device.requests = requests),
        }
    }

    /// Points are of other types from now on: what was read of them by the old ones is forgotten, before anything new is told.
    async fn retype(&mut self, place: usize, types: &[(PointIndex, DataType)]) {
        let points = &self.around.points;
        let is_new = |(index, data_type): &&(PointIndex, DataType)| {
            points.get(*index).is_some_and(|info| info.set_found(*data_type).is_some())
        };
        let changed: Vec<_> = types.iter().filter(is_new).map(|(index, _)| *index).collect();
        let Some(planned) = self.plan.devices.get(place).filter(|_| !changed.is_empty()) else { return };
        self.pipeline.begin_anew(&changed);
        self.around.listeners.tell(FieldEvent::Retyped(planned.slot)).await;
    }

    /// Devices say something else of their points from now on: of those whose values mean something else by that, what was
    /// read is forgotten, before anything new is told.
    async fn learn(&mut self, place: usize, told: Vec<(PointIndex, Semantics)>) {
        let points = &self.around.points;
        let is_new = |(index, told)| points.get(index).is_some_and(|info| info.set_semantics(told)).then_some(index);
        let changed: BTreeSet<_> = told.into_iter().filter_map(is_new).collect();
        let Some(planned) = self.plan.devices.get(place).filter(|_| !changed.is_empty()) else { return };
        let plans = plans(&self.plan, points).filter(|(index, _)| changed.contains(index));
        self.pipeline.replan(plans.collect());
        self.around.listeners.tell(FieldEvent::Retyped(planned.slot)).await;
    }

    fn with_device(&self, place: usize, change: impl FnOnce(&mut DeviceStatus)) {
        self.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(place) {
                change(device);
            }
        });
    }

    /// Nothing more is told of these points. What was read of those that mean something else is forgotten, here where it is
    /// written: each slot has one writer.
    pub(super) fn leave(&mut self, Leaving { points, redefined }: &Leaving) {
        self.pipeline.forget(points);
        for point in redefined {
            self.latest.forget(*point);
            self.around.recent.forget(*point);
        }
    }

    /// The link is described as it was.
    pub(super) fn stay(&mut self, points: Arc<PointTable>) {
        self.around.points = points;
    }

    /// The link is described anew. Points that did not change keep their report state, and devices their status.
    pub(super) fn change(&mut self, plan: LinkPlan, points: Arc<PointTable>, latest: Arc<LatestTable>) {
        let now = self.now();
        self.pipeline.change(Arc::clone(&latest), plans(&plan, &points).collect());
        let names = plan.devices.iter().map(|planned| planned.device.settings.name.to_string());
        self.shown.statistics.lock().change_devices(names.collect());
        let mut is_down = false;
        self.shown.status.update(|status, _| {
            is_down = status.state == LinkState::Down;
            let before = std::mem::take(&mut status.devices);
            let device = |planned: &PlannedDevice| {
                let (settings, points) = (&planned.device.settings, planned.points.len());
                let known = before.iter().find(|device| device.name == settings.name.as_str());
                let new = || {
                    let new = DeviceStatus::new(settings.name.as_str(), "", (0, 0), now.wall);
                    DeviceStatus { state: if is_down { DeviceState::Unreachable } else { new.state }, ..new }
                };
                DeviceStatus { title: settings.title.clone(), points, ..known.cloned().unwrap_or_else(new) }
            };
            status.devices = plan.devices.iter().map(device).collect();
        });
        (self.plan, self.around.points, self.latest) = (plan, points, latest);
        if is_down {
            for place in 0..self.plan.devices.len() {
                self.relabel(place, Reason::NeverRead, Reason::LinkDown, now);
            }
        }
    }
}
