use super::command::{Answer, COMMAND_QUEUE, Claim, LinkCommand, frames_of};
use super::owed::OwedByTarget;
use super::schedule::{Due, Refused, Schedule, Silence};
use super::statistics::Counted;
use super::{Backoff, LinkTask, Undone};
use crate::clock::wall_clock;
use crate::modbus::{self, Poll};
use crate::status::{DeviceState, LinkState};
use crate::uplink::UplinkInput;
use interlex_core::{PointIndex, Quality, RawSample, Reason, Sample, Timestamp};
use interlex_modbus::{
    Busy, ClientStats, Connection, Done, ExceptionCode, Fate, ReadData, Request, RequestError, RequestId, Response,
    ResponseError, TracedFrame,
};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

/// Drives one link: what is due goes out, what comes back goes into the pipeline.
pub(super) struct Driver {
    link: LinkTask,
    schedule: Schedule,
    /// What waits for its answer.
    under_way: HashMap<RequestId, Work>,
    /// Polls that got no answer and are sent again, ahead of the others.
    retries: VecDeque<Polling>,
    /// Commands that have not been sent yet: at most [`COMMAND_QUEUE`], more wait where they come from.
    waiting: VecDeque<Sending>,
    /// Whether the device answered since the connection came up.
    was_answered: bool,
    /// How many requests are shown of each device.
    shown_requests: Vec<usize>,
    counted: ClientStats,
    /// When each request was answered last, by its first point.
    last_done: HashMap<(usize, PointIndex), Instant>,
    batch: Vec<RawSample>,
    reported: Vec<Sample>,
}

/// What is held is looked at again after this at the soonest.
const SHORTEST_WAIT: Duration = Duration::from_millis(1);

enum Work {
    Poll(Polling),
    Command(Sending),
}

struct Polling {
    due: Due,
    poll: Arc<Poll>,
    lateness: Duration,
    retries_left: u8,
}

struct Sending {
    unit: u8,
    request: Request,
    written: Option<PointIndex>,
    claim: Claim,
    answer: oneshot::Sender<Result<Answer, Undone>>,
    /// The newest frame when it was sent.
    after: u64,
}

impl Driver {
    pub(super) fn new(link: LinkTask, schedule: Schedule) -> Self {
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
            let config = modbus::client_config(&self.link.protocol);
            let connected = tokio::select! {
                connected = modbus::connect(&self.link.protocol, config) => connected,
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
        let sending = self.under_way.drain().filter_map(|(_, work)| match work {
            Work::Command(sending) => Some(sending),
            Work::Poll(_) => None,
        });
        // Whoever asked may have gone.
        for sending in sending {
            let _ = sending.answer.send(Err(Undone::Unknown(why.to_owned())));
        }
        for sending in self.waiting.drain(..) {
            let _ = sending.answer.send(Err(Undone::NotSent(why.to_owned())));
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
        let now = wall_clock().as_millis();
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
        let (now, bad) = (wall_clock(), Quality::Bad(Reason::NotReadYet));
        let devices = 0..self.link.devices.len();
        for point in devices.flat_map(|device| self.schedule.polls_of(device)).flat_map(Poll::points) {
            let quality = self.link.latest.read(point).map(|reading| reading.quality);
            if quality == Some(Quality::Bad(Reason::LinkDown)) {
                self.link.latest.store(point, None, bad, now, now);
            }
        }
    }

    /// The connection is gone: every point of the link is bad, every device is lost.
    async fn lost(&mut self, error: &str) {
        let now = wall_clock();
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
                () = stop.cancelled() => return None,
            };
            while let Some(frame) = connection.poll_frame() {
                self.tell_stray(&frame);
                self.link.shown.frames.record(frame);
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
        self.waiting.retain(|sending| !sending.answer.is_closed());
        let instant = now.into_std();
        let is_free = |unit: u8, function: u8| connection.held_until(instant, unit, function).is_none();
        let command = self.waiting.iter().position(|sending| is_free(sending.unit, sending.request.function()));
        if let Some(mut sending) = command.and_then(|at| self.waiting.remove(at)) {
            if !sending.claim.send() {
                return Some(now);
            }
            sending.after = self.link.shown.frames.newest();
            let submitted = connection.submit(sending.unit, sending.request.clone());
            return self.sent(submitted, Work::Command(sending), now);
        }
        let units: Vec<u8> = self.link.devices.iter().map(|device| device.unit).collect();
        let may_be_sent = |device: usize, poll: &Poll| {
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
                self.sent(submitted, Work::Poll(polling), now)
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
        let Some((unit, _)) = self.link.shown.frames.framing().decode(&frame.bytes) else { return };
        if let Some(device) = self.link.devices.iter().position(|device| device.unit == unit) {
            self.device_error(device, format!("unit {unit}: {why}"), wall_clock());
        }
    }

    /// There may be room for another one at once.
    fn sent(&mut self, submitted: Result<RequestId, Busy>, work: Work, now: Instant) -> Option<Instant> {
        match (submitted, work) {
            (Ok(id), work) => _ = self.under_way.insert(id, work),
            // There was room; should there be none all the same, it goes out with the next room.
            (Err(Busy), Work::Command(sending)) => self.waiting.push_front(sending),
            (Err(Busy), Work::Poll(polling)) => self.retries.push_front(polling),
        }
        Some(now)
    }

    fn accept(&mut self, command: LinkCommand) {
        match command {
            LinkCommand::Send { unit, request, written, claim, answer } => {
                self.waiting.push_back(Sending { unit, request, written, claim, answer, after: 0 });
            }
            other => self.look(other),
        }
    }

    /// Carries out what needs no line.
    fn look(&mut self, command: LinkCommand) {
        let now = Instant::now().into_std();
        match command {
            // Whoever asked may have gone.
            LinkCommand::Plan(answer) => _ = answer.send(self.schedule.view(now)),
            LinkCommand::Relearn(device) => {
                let (status, _) = self.link.shown.status.read(wall_clock());
                let at = device.and_then(|device| status.devices.iter().position(|known| known.name == device));
                self.schedule.relearn(at, now);
            }
            LinkCommand::Send { .. } => {}
        }
    }

    fn count(&mut self, after: ClientStats) {
        let before = std::mem::replace(&mut self.counted, after);
        if before == after {
            return;
        }
        let now = wall_clock();
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
            Work::Poll(polling) => Some(polling.due.device),
            Work::Command(sending) => self.link.devices.iter().position(|device| device.unit == sending.unit),
        };
        self.link.shown.statistics.lock().add(device, counted, done.took, Instant::now().into_std());
        self.was_answered |= matches!(counted, Counted::Answer | Counted::Exception(_));
        match work {
            Work::Command(sending) => self.finish(sending, done),
            Work::Poll(mut polling) => {
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

    fn finish(&mut self, sending: Sending, done: Done) {
        let Sending { unit, request, written, answer, after, .. } = sending;
        let device = self.link.devices.iter().position(|device| device.unit == unit);
        if let (Some(device), Some(point)) = (device, written) {
            self.schedule.hasten(device, point, Instant::now().into_std());
        }
        let frames = frames_of(&self.link.shown.frames, unit, after, &request);
        // Whoever asked may have gone.
        let _ = answer.send(Ok(Answer { outcome: done.outcome, took: done.took, frames }));
    }

    async fn take_poll(&mut self, polling: Polling, outcome: Result<Response, RequestError>) {
        let Polling { due, poll, lateness, .. } = polling;
        let (now, instant) = (wall_clock(), Instant::now());
        self.link.shown.status.update(|status, _| {
            status.lateness_ms = u64::try_from(lateness.as_millis()).unwrap_or(u64::MAX);
        });
        let unit = self.link.devices.get(due.device).map_or(0, |device| device.unit);
        self.batch.clear();
        match outcome {
            Ok(Response::Data(data)) => self.keep(due, &poll, &data, lateness, instant),
            Err(error @ (RequestError::Timeout(_) | RequestError::WrongUnit { .. })) => {
                let attempts = self.link.devices.get(due.device).map_or(0, |device| u32::from(device.retries)) + 1;
                let who =
                    if matches!(error, RequestError::Timeout(_)) { format!("unit {unit}: ") } else { String::new() };
                let why = format!("{who}{error}, asked {attempts} times");
                return self.silent(due, &poll, Reason::Timeout, why, now).await;
            }
            Err(RequestError::Response(ResponseError::Exception(code))) if is_absent(code) => {
                let why = format!("unit {unit}: {code}");
                return self.silent(due, &poll, Reason::DeviceException(code.0), why, now).await;
            }
            Err(RequestError::Response(ResponseError::Exception(code))) => {
                return self.refused(due, &poll, code, now).await;
            }
            Err(error @ RequestError::Garbled(_)) => {
                self.device_error(due.device, format!("unit {unit}: {error}"), now);
                poll.fail(Reason::Garbled, &mut self.batch);
            }
            Ok(_) | Err(RequestError::Response(_) | RequestError::Several(_)) => {
                let error = outcome.err().map(|error| error.to_string()).unwrap_or_default();
                self.device_error(due.device, format!("unit {unit}: {error}"), now);
                poll.fail(Reason::ProtocolError, &mut self.batch);
            }
        }
        self.publish(now).await;
        if self.schedule.answered(due, instant.into_std()) {
            self.device_up(due.device, now).await;
        }
    }

    fn keep(&mut self, due: Due, poll: &Poll, data: &ReadData, lateness: Duration, now: Instant) {
        poll.read(data, &mut self.batch);
        let key = poll.points().next().map(|point| (due.device, point));
        let before = key.and_then(|key| self.last_done.insert(key, now));
        let interval = before.map(|before| now.saturating_duration_since(before));
        self.link.shown.statistics.lock().polled(poll.period, interval, lateness);
    }

    async fn refused(&mut self, due: Due, poll: &Poll, code: ExceptionCode, now: Timestamp) {
        let (reason, instant) = (Reason::DeviceException(code.0), Instant::now().into_std());
        let is_about_addresses =
            matches!(code, ExceptionCode::ILLEGAL_DATA_ADDRESS | ExceptionCode::ILLEGAL_DATA_VALUE);
        let came_up = if is_about_addresses {
            match self.schedule.refused(due, reason, instant) {
                Refused::Cut => {
                    let request = Request::from(poll.request);
                    tracing::debug!(link = self.link.name, %request, %code, "refused, asking in parts");
                    return;
                }
                Refused::Alone { came_up } => came_up,
            }
        } else {
            self.schedule.answered(due, instant)
        };
        self.device_error(due.device, format!("{code} for {}", Request::from(poll.request)), now);
        poll.fail(reason, &mut self.batch);
        self.publish(now).await;
        if came_up {
            self.device_up(due.device, now).await;
        }
    }

    /// Carries the batch through the pipeline to everyone who wants it.
    async fn publish(&mut self, now: Timestamp) {
        self.reported.clear();
        self.link.pipeline.process(&self.batch, now, &mut self.reported);
        for sample in &self.batch {
            if let Some(reading) = self.link.latest.read(sample.point) {
                self.link.recent.push(sample.point, &reading);
            }
        }
        if !self.reported.is_empty() && !self.link.uplinks.is_empty() {
            let samples: Arc<[Sample]> = self.reported.as_slice().into();
            self.link.uplinks.tell(UplinkInput::Samples(samples)).await;
        }
    }

    async fn silent(&mut self, due: Due, poll: &Poll, reason: Reason, why: String, now: Timestamp) {
        match self.schedule.fell_silent(due, Instant::now().into_std()) {
            Silence::Device => {}
            Silence::Cut => {
                let request = Request::from(poll.request);
                tracing::debug!(link = self.link.name, %request, "silent alone, asking in parts");
                return;
            }
            Silence::Alone => {
                self.device_error(due.device, format!("{why}, for {}", Request::from(poll.request)), now);
                poll.fail(reason, &mut self.batch);
                self.publish(now).await;
                return;
            }
        }
        let mut was_silent = false;
        self.link.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(due.device) {
                was_silent = device.state == DeviceState::Silent;
                if !was_silent {
                    (device.state, device.since) = (DeviceState::Silent, now.as_millis());
                }
            }
        });
        if !was_silent {
            tracing::warn!(link = self.link.name, why, "device silent");
        }
        self.device_error(due.device, why, now);
        if !was_silent {
            // Uplinks may know it as up from before the link was started anew.
            self.device_down(due.device).await;
            self.fail_device(due.device, reason, now).await;
        }
    }

    async fn fail_device(&mut self, device: usize, reason: Reason, now: Timestamp) {
        self.batch.clear();
        for poll in self.schedule.polls_of(device) {
            poll.fail(reason, &mut self.batch);
        }
        self.publish(now).await;
    }

    /// Shows how many requests a device is asked with, where that has changed.
    fn show_requests(&mut self, device: usize) {
        let requests = self.schedule.requests_of(device);
        let Some(shown) = self.shown_requests.get_mut(device).filter(|shown| **shown != requests) else { return };
        *shown = requests;
        self.link.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                device.requests = requests;
            }
        });
    }

    fn device_error(&self, device: usize, why: String, now: Timestamp) {
        self.link.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                (device.last_error, device.last_error_at) = (Some(why), Some(now.as_millis()));
            }
        });
    }

    async fn device_up(&self, device: usize, now: Timestamp) {
        self.link.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                tracing::info!(link = self.link.name, device = device.name, "device up");
                (device.state, device.since) = (DeviceState::Up, now.as_millis());
            }
        });
        if let Some(device) = self.link.devices.get(device) {
            self.link.uplinks.tell(UplinkInput::DeviceUp(device.slot)).await;
        }
    }

    async fn device_down(&self, device: usize) {
        if let Some(device) = self.link.devices.get(device) {
            self.link.uplinks.tell(UplinkInput::DeviceDown(device.slot)).await;
        }
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
}

/// Whether an exception says that a Modbus gateway cannot reach the unit.
fn is_absent(code: ExceptionCode) -> bool {
    matches!(code, ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE)
}
