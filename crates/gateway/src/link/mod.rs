//! One task a link: connects, polls on schedule, supervises its devices, and feeds the pipeline.

mod backoff;
mod schedule;

pub(crate) use backoff::Backoff;

use crate::clock::wall_clock;
use crate::modbus::{self, Poll};
use crate::points::{PointTable, plan_of};
use crate::recent::RecentValues;
use crate::status::{DeviceState, DeviceStatus, LinkState, LinkStatus, Shared};
use crate::uplink::{UplinkInput, Uplinks};
use interlex_core::description::{Description, DeviceProtocol, Link, ModbusTcpLink, Span};
use interlex_core::{LatestTable, Pipeline, PointIndex, RawSample, Reason, Sample, Timestamp};
use interlex_modbus::{
    ClientConfig, ExceptionCode, Framing, ReadData, ReadRequest, RequestError, ResponseError, TcpClient, TcpClientError,
};
use schedule::{Due, Schedule};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

/// The shortest wait before connecting again.
const FIRST_RECONNECT: Duration = Duration::from_millis(500);

/// What a link needs to run.
pub(crate) struct LinkTask {
    settings: ModbusTcpLink,
    framing: Framing,
    devices: Vec<LinkDevice>,
    pipeline: Pipeline,
    latest: Arc<LatestTable>,
    recent: Arc<RecentValues>,
    pub(crate) status: Arc<Shared<LinkStatus>>,
    uplinks: Uplinks,
    commands: mpsc::Receiver<LinkCommand>,
}

/// Something to do once, ahead of the polls.
#[derive(Debug)]
pub(crate) struct LinkCommand {
    pub(crate) unit: u8,
    pub(crate) request: ReadRequest,
    /// Where the outcome goes. Nobody may be waiting any more.
    pub(crate) answer: oneshot::Sender<Result<ReadData, String>>,
}

/// People and programs wait for each of these; more than a few at a time would hold up the polls.
pub(crate) const COMMAND_QUEUE: usize = 8;

/// A device of the link.
pub(crate) struct LinkDevice {
    /// The number that uplinks know it by.
    pub(crate) slot: usize,
    pub(crate) unit: u8,
    pub(crate) retries: u8,
    pub(crate) polls: Vec<Poll>,
}

impl LinkTask {
    /// Prepares a link with everything behind it.
    pub(crate) fn new(
        description: &Description,
        link: &Link,
        points: &PointTable,
        (latest, recent): (Arc<LatestTable>, Arc<RecentValues>),
        uplinks: Uplinks,
        commands: mpsc::Receiver<LinkCommand>,
    ) -> Self {
        let period = |rate: &str| {
            let span = description.rates.get(rate).copied().unwrap_or(Span::from_millis(1000));
            Duration::from(span)
        };
        let (mut devices, mut statuses, mut plans) = (Vec::new(), Vec::new(), Vec::new());
        for device in description.behind(link.settings.name.as_str()) {
            let name = device.settings.name.as_str();
            let slot = points.slot(name).unwrap_or_default();
            let index =
                |position: usize| points.of_slot(slot).get(position).map_or(PointIndex(u32::MAX), |info| info.index);
            let DeviceProtocol::Modbus(settings) = &device.protocol;
            let polls = modbus::polls(device, index, period);
            plans.extend(device.points.iter().enumerate().map(|(position, point)| (index(position), plan_of(point))));
            statuses.push(DeviceStatus::new(name, &device.settings.title, device.points.len(), polls.len()));
            devices.push(LinkDevice { slot, unit: settings.unit, retries: settings.retries, polls });
        }
        let settings = link.protocol.modbus();
        let status = LinkStatus::new(link.settings.name.as_str(), &link.protocol, statuses);
        Self {
            settings: settings.clone(),
            framing: modbus::framing(&link.protocol),
            devices,
            pipeline: Pipeline::new(Arc::clone(&latest), plans),
            latest,
            recent,
            status: Arc::new(Shared::new(status)),
            uplinks,
            commands,
        }
    }

    /// Runs until `stop` is cancelled.
    pub(crate) async fn run(self, stop: CancellationToken) {
        let name = self.status.read(wall_clock()).0.name;
        let mut rng = fastrand::Rng::new();
        let reconnect_limit = Duration::from(self.settings.reconnect_limit);
        let backoff = Backoff::new(FIRST_RECONNECT, reconnect_limit, rng.fork());
        let polls = self.devices.iter().map(|device| device.polls.clone()).collect();
        let schedule = Schedule::new(polls, Instant::now().into_std(), &mut rng);
        let mut driver = Driver { name, link: self, schedule, batch: Vec::new(), reported: Vec::new() };
        tokio::select! {
            () = driver.keep_connected(backoff) => {}
            () = stop.cancelled() => {}
        }
    }
}

struct Driver {
    name: String,
    link: LinkTask,
    schedule: Schedule,
    batch: Vec<RawSample>,
    reported: Vec<Sample>,
}

/// What became of one request, its retries included.
enum Outcome {
    Data(ReadData),
    Refused(ExceptionCode),
    Silent(Reason, String),
    Malformed(String),
}

impl Driver {
    async fn keep_connected(&mut self, mut backoff: Backoff) {
        loop {
            let error = match self.connect().await {
                Ok(client) => {
                    backoff.reset();
                    self.connected();
                    self.poll(client).await
                }
                Err(error) => format!("cannot connect: {error}"),
            };
            self.lost(&error).await;
            self.refuse_commands(&error, Instant::now() + backoff.wait()).await;
        }
    }

    /// Waits, and tells everyone who wants something meanwhile why it cannot be.
    async fn refuse_commands(&mut self, error: &str, until: Instant) {
        loop {
            tokio::select! {
                Some(command) = self.link.commands.recv() => {
                    // Whoever asked may have gone.
                    let _ = command.answer.send(Err(format!("the link is down: {error}")));
                }
                () = sleep_until(until) => return,
            }
        }
    }

    async fn connect(&self) -> std::io::Result<TcpClient> {
        let settings = &self.link.settings;
        let mut config = ClientConfig::default();
        config.response_timeout = settings.timeout.into();
        config.framing = self.link.framing;
        TcpClient::connect(&settings.host, settings.port, settings.connect_timeout.into(), config).await
    }

    fn connected(&mut self) {
        self.schedule.restart(Instant::now().into_std());
        let now = wall_clock().as_millis();
        tracing::info!(link = self.name, "connected");
        self.link.status.update(|status, _| {
            (status.state, status.since) = (LinkState::Up, now);
            for device in &mut status.devices {
                (device.state, device.since) = (DeviceState::Waiting, now);
            }
        });
    }

    /// The connection is gone: every point of the link is bad, every device is lost.
    async fn lost(&mut self, error: &str) {
        let now = wall_clock();
        let mut was_down = false;
        self.link.status.update(|status, _| {
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
            tracing::debug!(link = self.name, error, "still down");
            return;
        }
        tracing::warn!(link = self.name, error, "link down");
        for device in 0..self.link.devices.len() {
            self.device_down(device).await;
            self.fail_device(device, Reason::LinkDown, now).await;
        }
    }

    /// Polls until the connection breaks, and says why. Commands go ahead of polls.
    async fn poll(&mut self, mut client: TcpClient) -> String {
        let pause = self.link.settings.pause.map(Duration::from).unwrap_or_default();
        let mut free_at = Instant::now();
        loop {
            let due = self.schedule.next();
            let at = due.map(|due| free_at.max(due.at.into()));
            let before = client.stats();
            let outcome = tokio::select! {
                biased;
                Some(command) = self.link.commands.recv() => {
                    sleep_until(free_at).await;
                    let outcome = carry_out(&mut client, command).await;
                    self.count(before, client.stats());
                    outcome
                }
                Some(due) = next(due, at) => self.poll_one(&mut client, due).await,
            };
            if let Err(error) = outcome {
                return error;
            }
            free_at = Instant::now() + pause;
        }
    }

    async fn poll_one(&mut self, client: &mut TcpClient, due: Due) -> Result<(), String> {
        let Some(poll) = self.schedule.poll(due).cloned() else { return Ok(()) };
        let lateness = Instant::now().saturating_duration_since(due.at.into());
        let before = client.stats();
        let outcome = self.ask(client, due.device, &poll).await;
        self.count(before, client.stats());
        self.link.status.update(|status, _| {
            status.lateness_ms = u64::try_from(lateness.as_millis()).unwrap_or(u64::MAX);
        });
        self.take(due, &poll, outcome?).await;
        Ok(())
    }

    /// Sends one request, again if there is no answer. `Err` means that the connection is gone.
    async fn ask(&self, client: &mut TcpClient, device: usize, poll: &Poll) -> Result<Outcome, String> {
        let (unit, retries) = self.link.devices.get(device).map_or((0, 0), |device| (device.unit, device.retries));
        let mut left = retries;
        loop {
            let error = match client.read(unit, poll.request).await {
                Ok(data) => return Ok(Outcome::Data(data)),
                Err(TcpClientError::Request(error)) => error,
                Err(error) => return Err(error.to_string()),
            };
            match error {
                RequestError::Timeout(_) if left > 0 => left -= 1,
                RequestError::Timeout(_) => {
                    let attempts = u32::from(retries) + 1;
                    let why = format!("unit {unit}: {error}, asked {attempts} times");
                    return Ok(Outcome::Silent(Reason::Timeout, why));
                }
                RequestError::Response(ResponseError::Exception(code)) if is_absent(code) => {
                    return Ok(Outcome::Silent(modbus::reason(error), format!("unit {unit}: {code}")));
                }
                RequestError::Response(ResponseError::Exception(code)) => return Ok(Outcome::Refused(code)),
                RequestError::Response(_) => return Ok(Outcome::Malformed(format!("unit {unit}: {error}"))),
            }
        }
    }

    fn count(&self, before: interlex_modbus::ClientStats, after: interlex_modbus::ClientStats) {
        let now = wall_clock();
        let requests = after.requests - before.requests;
        self.link.status.update(|status, meter| {
            status.requests += requests;
            status.answers += after.answers - before.answers;
            status.timeouts += after.timeouts - before.timeouts;
            status.exceptions += after.exceptions - before.exceptions;
            meter.add(now, u32::try_from(requests).unwrap_or(u32::MAX));
        });
    }

    async fn take(&mut self, due: Due, poll: &Poll, outcome: Outcome) {
        let (now, instant) = (wall_clock(), Instant::now().into_std());
        self.batch.clear();
        match outcome {
            Outcome::Data(data) => poll.read(&data, &mut self.batch),
            Outcome::Malformed(why) => {
                self.device_error(due.device, why, now);
                poll.fail(Reason::ProtocolError, &mut self.batch);
            }
            Outcome::Refused(code) => {
                let is_about_addresses =
                    matches!(code, ExceptionCode::ILLEGAL_DATA_ADDRESS | ExceptionCode::ILLEGAL_DATA_VALUE);
                if is_about_addresses && self.schedule.split(due, instant) {
                    tracing::info!(link = self.name, request = ?poll.request, %code, "refused, asking in two parts");
                    return;
                }
                let request = poll.request;
                let why =
                    format!("{code} for {:?} {} to {}", request.table(), request.address(), poll.block.range.end());
                self.device_error(due.device, why, now);
                poll.fail(Reason::DeviceException(code.0), &mut self.batch);
            }
            Outcome::Silent(reason, why) => {
                self.silent(due, reason, why, now).await;
                return;
            }
        }
        self.publish(now).await;
        if self.schedule.answered(due, instant) {
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

    async fn silent(&mut self, due: Due, reason: Reason, why: String, now: Timestamp) {
        let was_up = self.schedule.fell_silent(due, Instant::now().into_std());
        let mut was_silent = false;
        self.link.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(due.device) {
                was_silent = device.state == DeviceState::Silent;
                if !was_silent {
                    (device.state, device.since) = (DeviceState::Silent, now.as_millis());
                }
            }
        });
        if !was_silent {
            tracing::warn!(link = self.name, why, "device silent");
        }
        self.device_error(due.device, why, now);
        if was_up {
            self.device_down(due.device).await;
        }
        if !was_silent {
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

    fn device_error(&self, device: usize, why: String, now: Timestamp) {
        self.link.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                (device.last_error, device.last_error_at) = (Some(why), Some(now.as_millis()));
            }
        });
    }

    async fn device_up(&self, device: usize, now: Timestamp) {
        self.link.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                tracing::info!(link = self.name, device = device.name, "device up");
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

/// The poll that is due, when its time has come; never when there is none.
async fn next(due: Option<Due>, at: Option<Instant>) -> Option<Due> {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
    due
}

/// Sends one request for somebody who waits for its outcome. `Err` means that the connection is gone.
async fn carry_out(client: &mut TcpClient, command: LinkCommand) -> Result<(), String> {
    let LinkCommand { unit, request, answer } = command;
    let (outcome, connection) = match client.read(unit, request).await {
        Ok(data) => (Ok(data), Ok(())),
        Err(TcpClientError::Request(error)) => (Err(error.to_string()), Ok(())),
        Err(error) => (Err(error.to_string()), Err(error.to_string())),
    };
    // Whoever asked may have gone.
    let _ = answer.send(outcome);
    connection
}

/// Whether an exception says that a Modbus gateway cannot reach the unit.
fn is_absent(code: ExceptionCode) -> bool {
    matches!(code, ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE)
}
