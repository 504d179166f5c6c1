use super::activity::{traffic, views};
use super::connect::{client_config, connect, framing, own};
use super::discovery::Discovery;
use super::errand::{Errand, ReadErrand, Reply, Step, WriteErrand};
use super::frames::{ModbusFrames, frames_of, peer};
use super::owed::{Carried, Owed};
use super::poll::ModbusPoll;
use super::unit::{LineUnit, named, units_of};
use crate::link::{
    Action, Answer, Command, CommandId, Counted, DEVICE_COMMANDS, DeviceEvent, DriverContext, End, FieldDriver,
    FrameLog, FrameRing, Full, LinkPlan, Lost, Outcome, Outcomes, RequestView,
};
use crate::poll::{Due, Schedule};
use interlex_core::description::ModbusLink;
use interlex_core::{PointIndex, PointTable, Reason};
use interlex_modbus::{Busy, ClientStats, Done, Fate, Request, RequestError, RequestId, ResponseError, TracedFrame};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, sleep_until};

/// Drives a Modbus link: what is due goes out, what comes back is told.
pub(crate) struct ModbusDriver {
    plan: LinkPlan,
    pub(super) units: Vec<LineUnit>,
    pub(super) schedule: Schedule<ModbusPoll>,
    frames: Arc<FrameRing<ModbusFrames>>,
    owed: Arc<Owed>,
    /// What waits for its answer.
    under_way: HashMap<RequestId, UnderWay>,
    /// Polls that got no answer and are sent again, ahead of the others.
    retries: VecDeque<Polling>,
    /// What is done once, in the order in which it was wanted.
    errands: VecDeque<Wanted>,
    /// The unit that an errand asked last.
    served: Option<u8>,
    /// How many requests are shown of each device.
    pub(super) shown_requests: Vec<usize>,
    /// When each request was answered last, by its first point.
    pub(super) last_done: HashMap<(usize, PointIndex), Instant>,
}

/// One connection.
pub(crate) struct ModbusSession {
    connection: Carried,
    free_at: Instant,
    counted: ClientStats,
}

enum UnderWay {
    Poll(Polling),
    /// A request of an errand, and the newest frame when it was sent.
    Errand {
        id: CommandId,
        unit: u8,
        request: Request,
        written: Option<PointIndex>,
        after: u64,
    },
}

pub(super) struct Polling {
    pub(super) due: Due,
    pub(super) poll: Arc<ModbusPoll>,
    pub(super) lateness: Duration,
    retries_left: u8,
}

struct Wanted {
    id: CommandId,
    errand: Box<dyn Errand>,
    is_sent: bool,
}

/// What is held is looked at again after this at the soonest.
const SHORTEST_WAIT: Duration = Duration::from_millis(1);

impl ModbusDriver {
    fn link(&self) -> &ModbusLink {
        own(&self.plan.link)
    }

    /// Sends what may be sent now, one request at the most; tells when to look again.
    fn send(&mut self, session: &mut ModbusSession, out: &mut Outcomes) -> Option<Instant> {
        let now = Instant::now();
        if now < session.free_at {
            return Some(session.free_at);
        }
        let instant = now.into_std();
        let connection = &session.connection;
        let is_free = |unit: u8, function: u8| connection.held_until(instant, unit, function).is_none();
        let wake = match self.next_errand(instant, &is_free, out) {
            Ok((id, unit, request, written)) => {
                let after = self.frames.newest();
                // Should there be no room all the same, it goes out with the next room.
                let sent = session.connection.submit(unit, request.clone()).ok()?;
                self.under_way.insert(sent, UnderWay::Errand { id, unit, request, written, after });
                self.errands.iter_mut().filter(|wanted| wanted.id == id).for_each(|wanted| wanted.is_sent = true);
                return Some(now);
            }
            Err(wake) => wake,
        };
        let units = &self.units;
        let may_be_sent = |place: usize, poll: &ModbusPoll| {
            units.get(place).is_some_and(|unit| is_free(unit.unit, poll.request.table().read_function()))
        };
        let retry = self.retries.iter().position(|polling| may_be_sent(polling.due.device, &polling.poll));
        let polling = retry.and_then(|at| self.retries.remove(at)).or_else(|| {
            let due = self.schedule.next(may_be_sent).filter(|due| now >= due.at.into())?;
            let lateness = now.saturating_duration_since(due.at.into());
            let retries_left = units.get(due.device).map_or(0, |unit| unit.retries);
            let poll = self.schedule.take(due)?;
            out.push(Outcome::Sent { lateness });
            Some(Polling { due, poll, lateness, retries_left })
        });
        let Some(polling) = polling else {
            let next = self.schedule.next(may_be_sent).map(|due| due.at);
            let released = connection.next_release().map(|at| at.max(instant + SHORTEST_WAIT));
            return next.into_iter().chain(released).chain(wake).min().map(Instant::from_std);
        };
        let unit = units.get(polling.due.device).map_or(0, |unit| unit.unit);
        match session.connection.submit(unit, polling.poll.request) {
            Ok(id) => {
                self.under_way.insert(id, UnderWay::Poll(polling));
                Some(now)
            }
            Err(Busy) => {
                self.retries.push_front(polling);
                None
            }
        }
    }

    /// The request of an errand that may go out now; else when one of them wants something.
    fn next_errand(
        &mut self,
        now: std::time::Instant,
        is_free: &impl Fn(u8, u8) -> bool,
        out: &mut Outcomes,
    ) -> Result<(CommandId, u8, Request, Option<PointIndex>), Option<std::time::Instant>> {
        let mut wake: Option<std::time::Instant> = None;
        // Of what changes something, one at a time goes to a unit.
        let mut writing = Vec::new();
        let mut order: Vec<usize> = (0..self.errands.len()).collect();
        // Units take turns: one that does not answer keeps the others waiting for one request, and not for all of its own.
        order.sort_by_key(|at| self.errands.get(*at).map(|wanted| wanted.errand.unit()) == self.served);
        for at in order {
            let Some(wanted) = self.errands.get_mut(at) else { continue };
            let (unit, writes) = (wanted.errand.unit(), wanted.errand.writes());
            let is_behind = writes && writing.contains(&unit);
            if writes {
                writing.push(unit);
            }
            if wanted.is_sent || is_behind {
                continue;
            }
            match wanted.errand.next(now) {
                Step::Send { unit, request, written } if is_free(unit, request.function()) => {
                    self.served = Some(unit);
                    return Ok((wanted.id, unit, request, written));
                }
                Step::Send { .. } => {}
                Step::Wait(until) => wake = Some(wake.map_or(until, |wake| wake.min(until))),
                Step::Done(answer) => {
                    out.push(Outcome::Answered(wanted.id, answer));
                    self.errands.remove(at);
                    return Err(Some(now));
                }
            }
        }
        Err(wake)
    }

    /// A request is done: its retries, its data, or what its failure means.
    fn take(&mut self, done: Done, out: &mut Outcomes) {
        let Some(under_way) = self.under_way.remove(&done.id) else { return };
        let counted = match &done.outcome {
            Ok(_) => Counted::Answer,
            Err(RequestError::Timeout(_) | RequestError::WrongUnit { .. }) => Counted::Timeout,
            Err(RequestError::Garbled(_)) => Counted::Garbled,
            Err(RequestError::Several(_)) => Counted::Malformed,
            Err(RequestError::Response(ResponseError::Exception(code))) => Counted::Refusal(Reason::Modbus(code.0)),
            Err(RequestError::Response(_)) => Counted::Malformed,
        };
        let device = match &under_way {
            UnderWay::Poll(polling) => Some(polling.due.device),
            UnderWay::Errand { unit, .. } => self.place_of(*unit),
        };
        let unit = device.and_then(|device| self.units.get(device));
        let devices = unit.map(|unit| Arc::clone(&unit.places)).unwrap_or_default();
        out.push(Outcome::Done { devices, counted, took: done.took });
        out.is_alive |= matches!(counted, Counted::Answer | Counted::Refusal(_));
        match under_way {
            UnderWay::Errand { id, unit, request, written, after } => {
                let now = Instant::now().into_std();
                if let (Some(device), Some(point)) = (device, written) {
                    self.schedule.hasten(device, point, now);
                }
                let frames = frames_of(&self.frames, unit, after, &request);
                let reply = Reply { outcome: done.outcome, took: done.took, frames };
                // It may have been given up meanwhile.
                if let Some(wanted) = self.errands.iter_mut().find(|wanted| wanted.id == id) {
                    wanted.is_sent = false;
                    wanted.errand.answered(reply, now);
                }
            }
            UnderWay::Poll(mut polling) => {
                if matches!(counted, Counted::Timeout | Counted::Garbled) && polling.retries_left > 0 {
                    polling.retries_left -= 1;
                    self.retries.push_back(polling);
                } else {
                    let device = polling.due.device;
                    self.take_poll(polling, done.outcome, out);
                    self.show_requests(device, out);
                }
            }
        }
    }

    fn place_of(&self, unit: u8) -> Option<usize> {
        self.units.iter().position(|device| device.unit == unit)
    }

    /// An answer that nobody waits for any more says something about its device.
    fn tell_stray(&self, frame: &TracedFrame, out: &mut Outcomes) {
        let why = match &frame.fate {
            Fate::Late(after) => {
                let seconds = after.as_secs_f64();
                format!("answers come {seconds:.1} s after the request: raise the timeout of the link")
            }
            Fate::Several => "several answers came at once, and none is believed".to_owned(),
            Fate::Unmatched | Fate::WrongUnit => "an answer came that it was not asked for".to_owned(),
            Fate::Garbled | Fate::Request | Fate::Answer(_) | Fate::Malformed | Fate::NoAnswer(_) => return,
        };
        let Some(unit) = self.frames.words().unit_of(&frame.bytes) else { return };
        if let Some(device) = self.place_of(unit) {
            self.tell(device, &DeviceEvent::Error(format!("{}: {why}", peer(unit))), out);
        }
    }

    /// Tells of a unit, for each device that it is.
    pub(super) fn tell(&self, unit: usize, event: &DeviceEvent, out: &mut Outcomes) {
        for place in self.units.get(unit).iter().flat_map(|unit| unit.places.iter()) {
            out.device(*place, event.clone());
        }
    }

    fn give_up(&mut self, at: usize, why: &str, out: &mut Outcomes) {
        if let Some(mut wanted) = self.errands.remove(at) {
            let target = self.plan.link.protocol.target();
            let end = End { target: &target, why, is_sent: wanted.is_sent };
            out.push(Outcome::Answered(wanted.id, wanted.errand.given_up(&end)));
        }
    }

    /// Shows how many requests a device is asked with, where that has changed.
    fn show_requests(&mut self, device: usize, out: &mut Outcomes) {
        let requests = self.schedule.requests_of(device);
        let Some(shown) = self.shown_requests.get_mut(device).filter(|shown| **shown != requests) else { return };
        *shown = requests;
        self.tell(device, &DeviceEvent::Requests(requests), out);
    }

    fn show_all_requests(&mut self, out: &mut Outcomes) {
        for device in 0..self.units.len() {
            self.show_requests(device, out);
        }
    }
}

impl FieldDriver for ModbusDriver {
    type Session = ModbusSession;

    fn new(plan: LinkPlan, context: DriverContext) -> Self {
        let units = units_of(&plan);
        let frames = ModbusFrames::new(framing(own(&plan.link)), named(&units));
        let polls = units.iter().map(|device| device.polls.clone()).collect();
        Self {
            frames: Arc::new(FrameRing::new(frames, plan.links, context.clock)),
            owed: context.memories.of(&plan.link.protocol.target()),
            schedule: Schedule::new(polls, Instant::now().into_std(), fastrand::Rng::new()),
            under_way: HashMap::new(),
            retries: VecDeque::new(),
            errands: VecDeque::new(),
            served: None,
            shown_requests: vec![0; units.len()],
            last_done: HashMap::new(),
            units,
            plan,
        }
    }

    fn words(reason: Reason) -> String {
        super::words::of(reason)
    }

    fn frames(&self) -> Arc<dyn FrameLog> {
        Arc::clone(&self.frames) as Arc<dyn FrameLog>
    }

    fn line(&self) -> Option<(Duration, Duration)> {
        let timing = self.link().timing();
        timing.baud.map(|baud| {
            let character = Duration::from_secs(timing.bits_per_character.into()) / baud.max(1);
            (character, framing(self.link()).silence(baud))
        })
    }

    fn begin(&mut self, out: &mut Outcomes) {
        self.show_all_requests(out);
    }

    fn connect(&mut self) -> impl Future<Output = Result<ModbusSession, Lost>> + Send + 'static {
        let (link, owed) = (self.link().clone(), Arc::clone(&self.owed));
        async move {
            let connection = connect(&link, client_config(&link)).await;
            let connection = connection.map_err(|error| Lost(error.to_string()))?;
            let connection = Carried::new(owed, connection);
            Ok(ModbusSession { connection, free_at: Instant::now(), counted: ClientStats::default() })
        }
    }

    fn connected(&mut self, _: &mut ModbusSession) {
        self.schedule.restart(Instant::now().into_std());
        self.under_way.clear();
        self.retries.clear();
    }

    async fn next(&mut self, session: &mut ModbusSession, out: &mut Outcomes) -> Result<(), Lost> {
        let has_room = self.under_way.len() < session.connection.capacity();
        let wake = if has_room { self.send(session, out) } else { None };
        // What was told is carried on before anything is waited for.
        if !out.is_empty() {
            return Ok(());
        }
        let done = tokio::select! {
            biased;
            done = session.connection.next() => Some(done),
            () = until(wake) => None,
        };
        while let Some(frame) = session.connection.poll_frame() {
            self.tell_stray(&frame, out);
            self.frames.record(frame);
        }
        let after = session.connection.stats();
        let before = std::mem::replace(&mut session.counted, after);
        if before != after {
            out.push(Outcome::Traffic(traffic(before, after)));
        }
        match done {
            Some(Ok(done)) => {
                let pause = self.link().timing().pause.map(Duration::from).unwrap_or_default();
                session.free_at = Instant::now() + pause;
                self.take(done, out);
                Ok(())
            }
            Some(Err(error)) => Err(Lost(error.to_string())),
            None => Ok(()),
        }
    }

    fn submit(&mut self, _: &mut ModbusSession, command: Command, out: &mut Outcomes) -> Result<(), Full> {
        let Command { id, action } = command;
        let errand: Result<Box<dyn Errand>, Answer> = match action {
            Action::Read(read) => {
                ReadErrand::new(*read).map(|errand| Box::new(errand) as _).map_err(|e| Answer::Read(Err(e)))
            }
            Action::Write(write) => {
                WriteErrand::new(*write).map(|errand| Box::new(errand) as _).map_err(|e| Answer::Written(Err(e)))
            }
            Action::Discover(what) => what.downcast::<Discovery>().map(|what| what.errand()).map_err(|_| {
                Answer::Found(Err(crate::error::TrialError::Request("the link speaks Modbus".to_owned())))
            }),
        };
        match errand {
            Ok(errand) => {
                let of_unit = self.errands.iter().filter(|wanted| wanted.errand.unit() == errand.unit());
                if of_unit.count() >= DEVICE_COMMANDS {
                    return Err(Full);
                }
                self.errands.push_back(Wanted { id, errand, is_sent: false });
            }
            Err(answer) => out.push(Outcome::Answered(id, answer)),
        }
        Ok(())
    }

    fn cancel(&mut self, id: CommandId, why: &str, out: &mut Outcomes) {
        if let Some(at) = self.errands.iter().position(|wanted| wanted.id == id) {
            self.give_up(at, why, out);
        }
    }

    /// A device that differs begins anew; the others go on with their schedule, and with what was learned of their addresses.
    fn change(&mut self, plan: LinkPlan, out: &mut Outcomes) {
        let units = units_of(&plan);
        let kept = |unit: &LineUnit| self.units.iter().position(|known| known.is_same(unit));
        let kept: Vec<Option<usize>> = units.iter().map(kept).collect();
        let polls = units.iter().map(|device| device.polls.clone()).collect();
        self.schedule.change(polls, &kept, Instant::now().into_std());
        let place = |before: usize| kept.iter().position(|kept| *kept == Some(before));
        let moved = |mut polling: Polling| {
            polling.due.device = place(polling.due.device)?;
            Some(polling)
        };
        // What was asked of devices that differ is answered to nobody.
        let under_way = std::mem::take(&mut self.under_way).into_iter().filter_map(|(id, under_way)| match under_way {
            UnderWay::Poll(polling) => Some((id, UnderWay::Poll(moved(polling)?))),
            errand @ UnderWay::Errand { .. } => Some((id, errand)),
        });
        self.under_way = under_way.collect();
        self.retries = std::mem::take(&mut self.retries).into_iter().filter_map(moved).collect();
        let last_done = std::mem::take(&mut self.last_done).into_iter();
        self.last_done = last_done.filter_map(|((device, point), at)| Some(((place(device)?, point), at))).collect();
        self.shown_requests =
            kept.iter().map(|kept| kept.and_then(|at| self.shown_requests.get(at).copied()).unwrap_or(0)).collect();
        self.frames.words().change_devices(named(&units));
        (self.units, self.plan) = (units, plan);
        self.show_all_requests(out);
    }

    fn lost(&mut self, session: ModbusSession, why: &str, out: &mut Outcomes) {
        drop(session);
        while !self.errands.is_empty() {
            self.give_up(0, why, out);
        }
        self.under_way.clear();
        self.retries.clear();
    }

    fn activity(&self, points: &PointTable) -> Vec<RequestView> {
        views(&self.schedule, &self.units, points)
    }

    fn relearn(&mut self, device: Option<usize>) {
        let unit = device.and_then(|place| self.units.iter().position(|unit| unit.places.contains(&place)));
        self.schedule.relearn(unit, Instant::now().into_std());
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
}
