//! What becomes of polls: values, refusals, silence, and what they say of their device.

use super::driver::{Driver, Polling};
use super::poll::ModbusPoll;
use crate::poll::{Due, Poll, Refused, Silence};
use interlex_core::{DeviceState, FieldEvent, Moment, Reason, Sample, Timestamp};
use interlex_modbus::{ExceptionCode, ReadData, Request, RequestError, Response, ResponseError};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

impl Driver {
    pub(super) async fn take_poll(&mut self, polling: Polling, outcome: Result<Response, RequestError>) {
        let Polling { due, poll, lateness, .. } = polling;
        let (now, instant) = (self.link.clock.now(), Instant::now());
        self.link.shown.status.update(|status, _| {
            status.lateness_ms = u64::try_from(lateness.as_millis()).unwrap_or(u64::MAX);
        });
        let unit = self.link.devices.get(due.device).map_or(0, |device| device.unit);
        self.batch.clear();
        match outcome {
            Ok(Response::Data(data)) => self.read_values(due, &poll, &data, lateness, instant),
            Err(error @ (RequestError::Timeout(_) | RequestError::WrongUnit { .. })) => {
                let attempts = self.link.devices.get(due.device).map_or(0, |device| u32::from(device.retries)) + 1;
                let who =
                    if matches!(error, RequestError::Timeout(_)) { format!("unit {unit}: ") } else { String::new() };
                let why = format!("{who}{error}, asked {attempts} times");
                return self.silent(due, &poll, Reason::Timeout, why, now).await;
            }
            Err(RequestError::Response(ResponseError::Exception(code))) if is_absent(code) => {
                let why = format!("unit {unit}: {code}");
                return self.silent(due, &poll, Reason::Modbus(code.0), why, now).await;
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

    fn read_values(&mut self, due: Due, poll: &ModbusPoll, data: &ReadData, lateness: Duration, now: Instant) {
        poll.read(data, &mut self.batch);
        let key = poll.points().next().map(|point| (due.device, point));
        let before = key.and_then(|key| self.last_done.insert(key, now));
        let interval = before.map(|before| now.saturating_duration_since(before));
        self.link.shown.statistics.lock().polled(poll.period(), interval, lateness);
    }

    async fn refused(&mut self, due: Due, poll: &ModbusPoll, code: ExceptionCode, now: Timestamp) {
        let (reason, instant) = (Reason::Modbus(code.0), Instant::now().into_std());
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
        let now = Moment { wall: now, instant: Instant::now().into_std() };
        self.link.pipeline.process(&self.batch, now, &mut self.reported);
        self.tell_reported().await;
    }

    /// Tells what time alone has made due.
    pub(super) async fn handle_deadline(&mut self) {
        self.reported.clear();
        let now = Moment { wall: self.link.clock.now(), instant: Instant::now().into_std() };
        self.link.pipeline.handle_deadline(now, &mut self.reported);
        self.tell_reported().await;
    }

    async fn tell_reported(&mut self) {
        if !self.reported.is_empty() && !self.link.listeners.is_empty() {
            let samples: Arc<[Sample]> = self.reported.as_slice().into();
            self.link.listeners.tell(FieldEvent::Samples(samples)).await;
        }
    }

    async fn silent(&mut self, due: Due, poll: &ModbusPoll, reason: Reason, why: String, now: Timestamp) {
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

    pub(super) async fn fail_device(&mut self, device: usize, reason: Reason, now: Timestamp) {
        self.batch.clear();
        for poll in self.schedule.polls_of(device) {
            poll.fail(reason, &mut self.batch);
        }
        self.publish(now).await;
    }

    /// Shows how many requests a device is asked with, where that has changed.
    pub(super) fn show_requests(&mut self, device: usize) {
        let requests = self.schedule.requests_of(device);
        let Some(shown) = self.shown_requests.get_mut(device).filter(|shown| **shown != requests) else { return };
        *shown = requests;
        self.link.shown.status.update(|status, _| {
            if let Some(device) = status.devices.get_mut(device) {
                device.requests = requests;
            }
        });
    }

    pub(super) fn device_error(&self, device: usize, why: String, now: Timestamp) {
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
            self.link.listeners.tell(FieldEvent::DeviceUp(device.slot)).await;
        }
    }

    pub(super) async fn device_down(&self, device: usize) {
        if let Some(device) = self.link.devices.get(device) {
            self.link.listeners.tell(FieldEvent::DeviceDown(device.slot)).await;
        }
    }
}

/// Whether an exception says that a Modbus gateway cannot reach the unit.
fn is_absent(code: ExceptionCode) -> bool {
    matches!(code, ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE)
}
