//! What becomes of polls: values, refusals, silence, and what they say of their device.

use super::driver::{ModbusDriver, Polling};
use super::frames::peer;
use super::poll::ModbusPoll;
use crate::link::{DeviceEvent, Outcome, Outcomes};
use crate::poll::{Due, Poll, Refused, Silence};
use interlex_core::Reason;
use interlex_modbus::{ExceptionCode, ReadData, Request, RequestError, Response, ResponseError};
use std::time::Duration;
use tokio::time::Instant;

impl ModbusDriver {
    pub(super) fn take_poll(&mut self, polling: Polling, outcome: Result<Response, RequestError>, out: &mut Outcomes) {
        let Polling { due, poll, lateness, .. } = polling;
        let instant = Instant::now();
        let unit = self.units.get(due.device).map_or(0, |device| device.unit);
        match outcome {
            Ok(Response::Data(data)) => self.read_values(due, &poll, &data, (lateness, instant), out),
            Err(error @ (RequestError::Timeout(_) | RequestError::WrongUnit { .. })) => {
                let attempts = self.units.get(due.device).map_or(0, |device| u32::from(device.retries)) + 1;
                let who = match error {
                    RequestError::Timeout(_) => format!("{}: ", peer(unit)),
                    _ => String::new(),
                };
                let why = format!("{who}{error}, asked {attempts} times");
                return self.silent(due, &poll, Reason::Timeout, why, out);
            }
            Err(RequestError::Response(ResponseError::Exception(code))) if is_absent(code) => {
                let why = format!("{}: {code}", peer(unit));
                return self.silent(due, &poll, Reason::Modbus(code.0), why, out);
            }
            Err(RequestError::Response(ResponseError::Exception(code))) => {
                return self.refused(due, &poll, code, out);
            }
            Err(error @ RequestError::Garbled(_)) => {
                self.tell(due.device, &DeviceEvent::Error(format!("{}: {error}", peer(unit))), out);
                out.batch(|batch| poll.fail(Reason::Garbled, batch));
            }
            Ok(_) | Err(RequestError::Response(_) | RequestError::Several(_)) => {
                let error = outcome.err().map(|error| error.to_string()).unwrap_or_default();
                self.tell(due.device, &DeviceEvent::Error(format!("{}: {error}", peer(unit))), out);
                out.batch(|batch| poll.fail(Reason::ProtocolError, batch));
            }
        }
        if self.schedule.answered(due, instant.into_std()) {
            self.tell(due.device, &DeviceEvent::Up, out);
        }
    }

    fn read_values(
        &mut self,
        due: Due,
        poll: &ModbusPoll,
        data: &ReadData,
        (lateness, now): (Duration, Instant),
        out: &mut Outcomes,
    ) {
        out.batch(|batch| poll.read(data, batch));
        let key = poll.points().next().map(|point| (due.device, point));
        let before = key.and_then(|key| self.last_done.insert(key, now));
        let interval = before.map(|before| now.saturating_duration_since(before));
        out.push(Outcome::Polled { period: poll.period(), interval, lateness });
    }

    fn refused(&mut self, due: Due, poll: &ModbusPoll, code: ExceptionCode, out: &mut Outcomes) {
        let (reason, instant) = (Reason::Modbus(code.0), Instant::now().into_std());
        let is_about_addresses =
            matches!(code, ExceptionCode::ILLEGAL_DATA_ADDRESS | ExceptionCode::ILLEGAL_DATA_VALUE);
        let came_up = if is_about_addresses {
            match self.schedule.refused(due, reason, instant) {
                Refused::Cut => {
                    let request = Request::from(poll.request);
                    tracing::debug!(%request, %code, "refused, asking in parts");
                    return;
                }
                Refused::Alone { came_up } => came_up,
            }
        } else {
            self.schedule.answered(due, instant)
        };
        self.tell(due.device, &DeviceEvent::Error(format!("{code} for {}", Request::from(poll.request))), out);
        out.batch(|batch| poll.fail(reason, batch));
        if came_up {
            self.tell(due.device, &DeviceEvent::Up, out);
        }
    }

    fn silent(&mut self, due: Due, poll: &ModbusPoll, reason: Reason, why: String, out: &mut Outcomes) {
        match self.schedule.fell_silent(due, Instant::now().into_std()) {
            Silence::Device => self.tell(due.device, &DeviceEvent::Silent(reason, why), out),
            Silence::Cut => {
                let request = Request::from(poll.request);
                tracing::debug!(%request, "silent alone, asking in parts");
            }
            Silence::Alone => {
                let why = format!("{why}, for {}", Request::from(poll.request));
                self.tell(due.device, &DeviceEvent::Error(why), out);
                out.batch(|batch| poll.fail(reason, batch));
            }
        }
    }
}

/// Whether an exception says that a Modbus gateway cannot reach the unit.
fn is_absent(code: ExceptionCode) -> bool {
    matches!(code, ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE)
}
