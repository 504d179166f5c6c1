use super::connect::{client_config, connect};
use super::frames::frames_of;
use super::owed::OwedByTarget;
use super::poll::ModbusPoll;
use super::task::LinkTask;
use crate::link::{Answer, COMMAND_QUEUE, Claim, Counted, LinkCommand, RequestView, Undone};
use crate::poll::{Due, PlanView, Poll, Schedule};
use crate::words::reason_words;
use interlex_core::{Backoff, DeviceState, LinkState, PointIndex, PointTable, Quality, RawSample, Reason, Sample};
use interlex_modbus::{
    Busy, ClientStats, Connection, Done, Fate, ReadRequest, Request, RequestError, RequestId, ResponseError,
    TracedFrame,
};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

/// Drives one link: what is due goes out, what comes back goes into the pipeline.
pub(super) struct Driver {
    pub(super) link: LinkTask,
    pub(super) schedule: Schedule<ModbusPoll>,
    /// What waits for its answer.
    under_way: HashMap<RequestId, UnderWay>,
    /// Polls that got no answer and are sent again, ahead of the others.
    retries: VecDeque<Polling>,
    /// Commands that have not been sent yet: at most [`COMMAND_QUEUE`], more wait where they come from.
    waiting: VecDeque<Exchange>,
    /// Whether the device answered since the connection came up.
    was_answered: bool,
    /// How many requests are shown of each device.
    pub(super) shown_requests: Vec<usize>,
    counted: ClientStats,
    /// When each request was answered last, by its first point.
    pub(super) last_done: HashMap<(usize, PointIndex), Instant>,
    pub(super) batch: Vec<RawSample>,
    pub(super) reported: Vec<Sample>,
}

/// What is held is looked at again after this at the soonest.
const SHORTEST_WAIT: Duration = Duration::from_millis(1);

enum UnderWay {
    Poll(Polling),
    Exchange(Exchange),
}

pub(super) struct Polling {
    pub(super) due: Due,
    pub(super) poll: Arc<ModbusPoll>,
    pub(super) lateness: Duration,
    retries_left: u8,
}

struct Exchange {
    unit: u8,
    request: Request,
    written: Option<PointIndex>,
    claim: Claim,
    answer: oneshot::Sender<Result<Answer, Undone>>,
    /// The newest frame when it was sent.
    after: u64,
}

impl Driver {
    pub(super) fn new(link: LinkTask, schedule: Schedule<ModbusPoll>) -> Self {
        Self {
            shown_requests: vec![0; link.devices.len()],
            link,
            schedule,
            under_way: HashMap::new(),
            retries: VecDeque::new(),
            waiting: VecDeque::new(),
            was_answered: false,
            counted: ClientStats::default(),
            last_done: HashMap::new(),
            batch: Vec::new(),
            reported: Vec::new(),
        }
    }

    /// Runs until `stop` is cancelled; what is being told to uplinks then is told to the end.
    pub(super) async fn keep_connected(mut self, mut backoff: Backoff, stop: &CancellationToken) {
        while !stop.is_cancelled() {
            let config = client_config(&self.link.protocol);
            let connected = tokio::select! {
                connected = connect(&self.link.protocol, config) => connected,
                () = stop.cancelled() => return,
            };
            let error = match connected {
                Ok(connection) => {
                    self.connected();
                    let mut connection = OwedByTarget::carry(&self.link.owed, connection);
                    let ended = self.poll(&mut connection, stop).await;
                    drop(connection);
                    let Some(error) = ended else { return self.refuse_all("the link was stopped") };
                    // What comes up and breaks at once is tried as seldom as what does not come up.
                    if self.was_answered {
                        backoff.reset();
                    }
                    error
                }
                Err(error) => format!("cannot connect: {error}"),
            };
            self.lost(&error).await;
            self.refuse_commands(&error, Instant::now() + backoff.wait(), stop).await;
        }
    }

    /// Tells whoever waits for something that it cannot be, and what was sent that nobody knows.
    fn refuse_all(&mut self, why: &str) {
        let exchange = self.under_way.drain().filter_map(|(_, work)| match work {
            UnderWay::Exchange(exchange) => Some(exchange),
            UnderWay::Poll(_) => None,
        });
        // Whoever asked may have gone.
        for exchange in exchange {
            let _ = exchange.answer.send(Err(Undone::Unknown(why.to_owned())));
        }
        for exchange in self.waiting.drain(..) {
            let _ = exchange.answer.send(Err(Undone::NotSent(why.to_owned())));
        }
    }

    /// Waits, and tells everyone who wants something meanwhile why it cannot be.
    async fn refuse_commands(&mut self, error: &str, until: Instant, stop: &CancellationToken) {
        loop {
            tokio::select! {
                Some(command) = self.link.commands.recv() => match command {
                    // Whoever asked may have gone.
                    LinkCommand::Send { answer, .. } => {
                        _ = answer.send(Err(Undone::NotSent(format!("the link is down: {error}"))));
                    }
                    other => self.look(other),
                },
                () = sleep_until(until) => return,
                () = stop.cancelled() => return,
            }
        }
    }

    fn connected(&mut self) {
        let instant = Instant::now().into_std();
        self.schedule.restart(instant);
        self.under_way.clear();
        self.retries.clear();
        self.counted = ClientStats::default();
        self.was_answered = false;
        self.link.shown.statistics.lock().up(instant);
        let now = self.link.clock.now().as_millis();
        tracing::info!(link = self.link.name, "connected");
        self.link.shown.status.update(|status, _| {
            (status.state, status.since) = (LinkState::Up, now);
            for device in &mut status.devices {
                (device.state, device.since) = (DeviceState::Waiting, now);
            }
        });
        self.not_read_yet();
    }

    /// What was bad since the link was down is bad from now on since it was not read yet. No news for uplinks.
    fn not_read_yet(&self) {
        let (now, bad) = (self.link.clock.now(), Quality::Bad(Reason::NotReadYet));
        let devices = 0..self.link.devices.len();
        for point in devices.flat_map(|device| self.schedule.polls_of(device)).flat_map(ModbusPoll::points) {
            let quality = self.link.latest.read(point).map(|reading| reading.quality);
            if quality == Some(Quality::Bad(Reason::LinkDown)) {
                self.link.latest.store(point, None, bad, now, now);
            }
        }
    }

    /// The connection is gone: every point of the link is bad, every device is lost.
    async fn lost(&mut self, error: &str) {
        let now = self.link.clock.now();
        self.refuse_all(&format!("the link went down: {error}"));
        let mut was_down = false;
        self.link.shown.status.update(|status, _| {
            was_down = status.state == LinkState::Down;
            if !was_down {
                (status.state, status.since) = (LinkState::Down, now.as_millis());
                for device in &mut status.devices {
                    (device.state, device.since) = (DeviceState::Unreachable, now.as_millis());
                }
            }
            (status.last_error, status.last_error_at) = (Some(error.to_owned()), Some(now.as_millis()));
        });
        if was_down {
            tracing::debug!(link = self.link.name, error, "still down");
            return;
        }
        tracing::warn!(link = self.link.name, error, "link down");
        for device in 0..self.link.devices.len() {
            self.device_down(device).await;
            self.fail_device(device, Reason::LinkDown, now).await;
        }
    }

    /// Polls until the connection breaks, and says why; `None` when the link is stopped. Commands go ahead of polls.
    async fn poll(&mut self, connection: &mut Connection, stop: &CancellationToken) -> Option<String> {
        let pause = self.link.protocol.timing().pause.map(Duration::from).unwrap_or_default();
        let mut free_at = Instant::now();
        loop {
            let has_room = self.under_way.len() < connection.capacity();
            let wake = if has_room { self.send(connection, free_at) } else { None };
            let done = tokio::select! {
                biased;
                done = connection.next() => Some(done),
                Some(command) = self.link.commands.recv(), if self.waiting.len() < COMMAND_QUEUE => {
                    self.accept(command);
                    None
                }
                () = until(wake) => None,
                () = until(self.link.pipeline.deadline().map(Instant::from_std)) => {
                    self.handle_deadline().await;
                    None
                }
                () = stop.cancelled() => return None,
            };
            while let Some(frame) = connection.poll_frame() {
                self.tell_stray(&frame);
                self.link.frames.record(frame);
            }
            self.count(connection.stats());
            match done {
                Some(Ok(done)) => {
                    free_at = Instant::now() + pause;
                    self.take(done).await;
                }
                Some(Err(error)) => return Some(error.to_string()),
                None => {}
            }
        }
    }

    /// Queues what may be sent now, one request at the most; tells when to look again.
    fn send(&mut self, connection: &mut Connection, free_at: Instant) -> Option<Instant> {
        let now = Instant::now();
        if now < free_at {
            return Some(free_at);
        }
        // Whoever asked and has gone does not want it any more.
        self.waiting.retain(|exchange| !exchange.answer.is_closed());
        let instant = now.into_std();
        let is_free = |unit: u8, function: u8| connection.held_until(instant, unit, function).is_none();
        let command = self.waiting.iter().position(|exchange| is_free(exchange.unit, exchange.request.function()));
        if let Some(mut exchange) = command.and_then(|at| self.waiting.remove(at)) {
            if !exchange.claim.send() {
                return Some(now);
            }
            exchange.after = self.link.frames.newest();
            let submitted = connection.submit(exchange.unit, exchange.request.clone());
            return self.sent(submitted, UnderWay::Exchange(exchange), now);
        }
        let units: Vec<u8> = self.link.devices.iter().map(|device| device.unit).collect();
        let may_be_sent = |device: usize, poll: &ModbusPoll| {
            is_free(units.get(device).copied().unwrap_or_default(), poll.request.table().read_function())
        };
        let retry = self.retries.iter().position(|polling| may_be_sent(polling.due.device, &polling.poll));
        let polling = retry.and_then(|at| self.retries.remove(at)).or_else(|| {
            let due = self.schedule.next(may_be_sent).filter(|due| now >= due.at.into())?;
            let lateness = now.saturating_duration_since(due.at.into());
            let retries_left = self.link.devices.get(due.device).map_or(0, |device| device.retries);
            let poll = self.schedule.take(due)?;
            self.link.shown.statistics.lock().sent(lateness);
            Some(Polling { due, poll, lateness, retries_left })
        });
        match polling {
            Some(polling) => {
                let unit = self.link.devices.get(polling.due.device).map_or(0, |device| device.unit);
                let submitted = connection.submit(unit, polling.poll.request);
                self.sent(submitted, UnderWay::Poll(polling), now)
            }
            None => {
                let next = self.schedule.next(may_be_sent).map(|due| due.at);
                let released = connection.next_release().map(|at| at.max(instant + SHORTEST_WAIT));
                next.into_iter().chain(released).min().map(Instant::from_std)
            }
        }
    }

    /// An answer that nobody waits for any more says something about its device.
    fn tell_stray(&self, frame: &TracedFrame) {
        let why = match &frame.fate {
            Fate::Late(after) => {
                let seconds = after.as_secs_f64();
                format!("answers come {seconds:.1} s after the request: raise the timeout of the link")
            }
            Fate::Several => "several answers came at once, and none is believed".to_owned(),
            Fate::Unmatched | Fate::WrongUnit => "an answer came that it was not asked for".to_owned(),
            Fate::Garbled | Fate::Request | Fate::Answer(_) | Fate::Malformed | Fate::NoAnswer(_) => return,
        };
        let Some(unit) = self.link.frames.words().unit_of(&frame.bytes) else { return };
        if let Some(device) = self.link.devices.iter().position(|device| device.unit == unit) {
            self.device_error(device, format!("unit {unit}: {why}"), self.link.clock.now());
        }
    }

    /// There may be room for another one at once.
    fn sent(&mut self, submitted: Result<RequestId, Busy>, work: UnderWay, now: Instant) -> Option<Instant> {
        match (submitted, work) {
            (Ok(id), work) => _ = self.under_way.insert(id, work),
            // There was room; should there be none all the same, it goes out with the next room.
            (Err(Busy), UnderWay::Exchange(exchange)) => self.waiting.push_front(exchange),
            (Err(Busy), UnderWay::Poll(polling)) => self.retries.push_front(polling),
        }
        Some(now)
    }

    fn accept(&mut self, command: LinkCommand) {
        match command {
            LinkCommand::Send { unit, request, written, claim, answer } => {
                self.waiting.push_back(Exchange { unit, request, written, claim, answer, after: 0 });
            }
            other => self.look(other),
        }
    }

    /// Carries out what needs no line.
    fn look(&mut self, command: LinkCommand) {
        let now = Instant::now().into_std();
        match command {
            // Whoever asked may have gone.
            LinkCommand::Requests(points, answer) => _ = answer.send(self.request_views(&points, now)),
            LinkCommand::Relearn(device) => {
                let (status, _) = self.link.shown.status.read(self.link.clock.now());
                let at = device.and_then(|device| status.devices.iter().position(|known| known.name == device));
                self.schedule.relearn(at, now);
            }
            LinkCommand::Send { .. } => {}
        }
    }

    fn request_views(&self, points: &PointTable, now: std::time::Instant) -> Vec<RequestView> {
        let (status, _) = self.link.shown.status.read(self.link.clock.now());
        let milliseconds = |span: Duration| u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
        let view = |plan: PlanView<ModbusPoll>| {
            let request = plan.poll.request;
            let names = plan.poll.points().filter_map(|index| points.get(index)).map(|info| info.name().to_owned());
            RequestView {
                device: status.devices.get(plan.device).map(|device| device.name.clone()).unwrap_or_default(),
                reads: reads(request),
                period_ms: milliseconds(plan.poll.period()),
                points: names.collect(),
                as_planned: plan.is_whole,
                bad: plan.bad.map(reason_words),
                whole_again_in_ms: plan.retry_in.map(milliseconds),
            }
        };
        self.schedule.view(now).into_iter().map(view).collect()
    }

    fn count(&mut self, after: ClientStats) {
        let before = std::mem::replace(&mut self.counted, after);
        if before == after {
            return;
        }
        let now = self.link.clock.now();
        let requests = after.requests - before.requests;
        self.link.shown.statistics.lock().traffic(before, after);
        self.link.shown.status.update(|status, meter| {
            status.requests += requests;
            status.answers += after.answers - before.answers;
            status.timeouts += after.timeouts - before.timeouts;
            status.exceptions += after.exceptions - before.exceptions;
            meter.add(now, u32::try_from(requests).unwrap_or(u32::MAX));
        });
    }

    /// A request is done: its retries, its data, or what its failure means.
    async fn take(&mut self, done: Done) {
        let Some(work) = self.under_way.remove(&done.id) else { return };
        let counted = match &done.outcome {
            Ok(_) => Counted::Answer,
            Err(RequestError::Timeout(_) | RequestError::WrongUnit { .. }) => Counted::Timeout,
            Err(RequestError::Garbled(_)) => Counted::Garbled,
            Err(RequestError::Several(_)) => Counted::Malformed,
            Err(RequestError::Response(ResponseError::Exception(code))) => Counted::Exception(code.0),
            Err(RequestError::Response(_)) => Counted::Malformed,
        };
        let device = match &work {
            UnderWay::Poll(polling) => Some(polling.due.device),
            UnderWay::Exchange(exchange) => self.link.devices.iter().position(|device| device.unit == exchange.unit),
        };
        self.link.shown.statistics.lock().add(device, counted, done.took, Instant::now().into_std());
        self.was_answered |= matches!(counted, Counted::Answer | Counted::Exception(_));
        match work {
            UnderWay::Exchange(exchange) => self.finish(exchange, done),
            UnderWay::Poll(mut polling) => {
                if matches!(counted, Counted::Timeout | Counted::Garbled) && polling.retries_left > 0 {
                    polling.retries_left -= 1;
                    self.retries.push_back(polling);
                } else {
                    let device = polling.due.device;
                    self.take_poll(polling, done.outcome).await;
                    self.show_requests(device);
                }
            }
        }
    }

    fn finish(&mut self, exchange: Exchange, done: Done) {
        let Exchange { unit, request, written, answer, after, .. } = exchange;
        let device = self.link.devices.iter().position(|device| device.unit == unit);
        if let (Some(device), Some(point)) = (device, written) {
            self.schedule.hasten(device, point, Instant::now().into_std());
        }
        let frames = frames_of(&self.link.frames, unit, after, &request);
        // Whoever asked may have gone.
        let _ = answer.send(Ok(Answer { outcome: done.outcome, took: done.took, frames }));
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
}

/// What a request reads: `holding registers 16 to 20`.
fn reads(request: ReadRequest) -> String {
    let (words, first) = (request.table().words(), request.address());
    match request.quantity() {
        1 => format!("{words} {first}"),
        more => format!("{words} {first} to {}", first + (more - 1)),
    }
}
