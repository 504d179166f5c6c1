//! One task a link: connects, polls on schedule, supervises its devices, and feeds the pipeline.

mod backoff;
mod schedule;

pub(crate) use backoff::Backoff;

use crate::clock::wall_clock;
use crate::modbus::{self, Poll};
use crate::recent::RecentValues;
use crate::status::{DeviceState, DeviceStatus, LinkState, LinkStatus, Shared};
use crate::uplink::UplinkInput;
use interlex_core::description::ModbusTcpLink;
use interlex_core::{LatestTable, Pipeline, RawSample, Reason, Sample, Timestamp};
use interlex_modbus::{ClientConfig, ExceptionCode, ReadData, RequestError, ResponseError, TcpClient, TcpClientError};
use schedule::{Due, Schedule};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;

/// The shortest wait before connecting again.
const FIRST_RECONNECT: Duration = Duration::from_millis(500);

/// What a link needs to run.
pub(crate) struct LinkTask {
    pub(crate) settings: ModbusTcpLink,
    pub(crate) devices: Vec<LinkDevice>,
    pub(crate) pipeline: Pipeline,
    pub(crate) latest: Arc<LatestTable>,
    pub(crate) recent: Arc<RecentValues>,
    pub(crate) status: Arc<Shared<LinkStatus>>,
    pub(crate) uplinks: Vec<mpsc::Sender<UplinkInput>>,
}

/// A device of the link.
pub(crate) struct LinkDevice {
    /// Its place in the description.
    pub(crate) index: usize,
    pub(crate) unit: u8,
    pub(crate) retries: u8,
    pub(crate) polls: Vec<Poll>,
}

impl LinkTask {
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
            sleep(backoff.wait()).await;
        }
    }

    async fn connect(&self) -> std::io::Result<TcpClient> {
        let settings = &self.link.settings;
        let mut config = ClientConfig::default();
        config.response_timeout = settings.timeout.into();
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

    /// Polls until the connection breaks, and says why.
    async fn poll(&mut self, mut client: TcpClient) -> String {
        let Some(_) = self.schedule.next() else {
            return std::future::pending().await;
        };
        loop {
            let Some(due) = self.schedule.next() else { continue };
            sleep_until(due.at.into()).await;
            let Some(poll) = self.schedule.poll(due).cloned() else { continue };
            let lateness = Instant::now().saturating_duration_since(due.at.into());
            let before = client.stats();
            let outcome = self.ask(&mut client, due.device, &poll).await;
            self.count(before, client.stats(), lateness);
            match outcome {
                Ok(outcome) => self.take(due, &poll, outcome).await,
                Err(error) => return error,
            }
        }
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

    fn count(&self, before: interlex_modbus::ClientStats, after: interlex_modbus::ClientStats, lateness: Duration) {
        let now = wall_clock();
        let requests = after.requests - before.requests;
        self.link.status.update(|status, meter| {
            status.requests += requests;
            status.answers += after.answers - before.answers;
            status.timeouts += after.timeouts - before.timeouts;
            status.exceptions += after.exceptions - before.exceptions;
            status.lateness_ms = u64::try_from(lateness.as_millis()).unwrap_or(u64::MAX);
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
            self.tell(UplinkInput::Samples(samples)).await;
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
            self.tell(UplinkInput::DeviceUp(device.index)).await;
        }
    }

    async fn device_down(&self, device: usize) {
        if let Some(device) = self.link.devices.get(device) {
            self.tell(UplinkInput::DeviceDown(device.index)).await;
        }
    }

    /// Uplinks always take in what they are told, sooner or later to their buffer; here a full queue waits for that.
    async fn tell(&self, input: UplinkInput) {
        for uplink in &self.link.uplinks {
            // An error means that the uplink has ended, at shutdown; there is nobody to tell.
            let _ = uplink.send(input.clone()).await;
        }
    }
}

/// Whether an exception says that a Modbus gateway cannot reach the unit.
fn is_absent(code: ExceptionCode) -> bool {
    matches!(code, ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE)
}

/// The status of a link before it ran.
pub(crate) fn initial_status(
    name: &str,
    protocol: &'static str,
    target: String,
    devices: Vec<DeviceStatus>,
) -> LinkStatus {
    LinkStatus {
        name: name.to_owned(),
        protocol,
        target,
        state: LinkState::Connecting,
        since: wall_clock().as_millis(),
        last_error: None,
        last_error_at: None,
        requests: 0,
        answers: 0,
        timeouts: 0,
        exceptions: 0,
        requests_per_second: 0.0,
        lateness_ms: 0,
        devices,
    }
}
