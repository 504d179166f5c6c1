use super::connect::framing;
use super::mapping::{Reader, request};
use super::one_off::{Exchange, OneOff, Via};
use super::writing::Writing;
use crate::error::TrialError;
use crate::link::{Answer, FrameView};
use interlex_core::description::{Address, Device, DeviceProtocol, Link, Point, WriteFunctions};
use interlex_core::{CommandOutcome, CommandRefusal, OutcomeWord, PointIndex, Value, raw_to_write};
use interlex_modbus::{
    ReadData, ReadRequest, Request, RequestError, Response, ResponseError, Table, WriteRequest, Written,
};
use serde::Serialize;

/// A value to write once, now, to a point that need not be described anywhere.
#[derive(Debug, Clone)]
pub struct PointWrite {
    /// How to get there.
    pub link: Link,
    /// Whom to tell.
    pub device: Device,
    /// What to set.
    pub point: Point,
    /// The engineering value.
    pub value: Value,
    /// The index of the point when it runs: it is read at once.
    pub index: Option<PointIndex>,
}

/// What a write brought.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct WriteOutcome {
    /// What became of it: confirmed or accepted.
    #[schema(value_type = String)]
    pub outcome: OutcomeWord,
    /// The same in words, with what was written where that differs from what was asked for.
    pub words: String,
    /// The address, in its canonical form.
    pub address: String,
    /// The raw value that was written.
    #[schema(value_type = serde_json::Value)]
    pub written: Value,
    /// The engineering value that was written: a whole number where the device has no others.
    #[schema(value_type = serde_json::Value)]
    pub taken: Value,
    /// The raw value that the device says now; `null` when it could not be read back.
    #[schema(value_type = serde_json::Value)]
    pub raw: Option<Value>,
    /// The engineering value of it.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// Its unit.
    pub unit: String,
    /// Whether the device says what was written; `null` when nobody answers, as with unit 0 of a serial line.
    pub confirmed: Option<bool>,
    /// Why it could not be read back.
    pub read_back_error: Option<String>,
    /// How long the answer to the write took, in milliseconds.
    pub answer_ms: f64,
    /// Whether it went over a connection that was open for the running gateway.
    pub shared_connection: bool,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
}

/// Why nothing was written, or nobody knows whether it was.
#[derive(Debug, Clone, thiserror::Error)]
pub enum WriteError {
    /// Nothing was sent.
    #[error("{0}")]
    Refused(#[from] CommandRefusal),
    /// Nothing was sent.
    #[error("{0}")]
    Value(String),
    /// The link or the device did not do it.
    #[error(transparent)]
    Trial(#[from] TrialError),
    /// It was sent, and nobody knows what the device did.
    #[error("{why}; it may have been carried out")]
    Unknown {
        /// What came instead of an answer.
        why: String,
        /// The frames sent and received.
        frames: Vec<FrameView>,
    },
}

impl WriteError {
    /// What became of the command.
    #[must_use]
    pub fn outcome(&self) -> CommandOutcome {
        match self {
            Self::Unknown { .. } => CommandOutcome::Unknown(self.to_string()),
            Self::Refused(_) | Self::Value(_) | Self::Trial(_) => CommandOutcome::Refused(self.to_string()),
        }
    }
}

impl WriteOutcome {
    /// What became of the command.
    #[must_use]
    pub fn outcome(&self) -> CommandOutcome {
        match (self.confirmed, &self.read_back_error) {
            (Some(true), _) => CommandOutcome::Confirmed,
            (Some(false), _) => {
                let says =
                    self.value.as_ref().map_or_else(|| "nothing that can be read".to_owned(), ToString::to_string);
                CommandOutcome::Accepted(format!("the device says {says} now"))
            }
            (None, Some(error)) => CommandOutcome::Accepted(format!("not read back: {error}")),
            (None, None) => CommandOutcome::Accepted("sent to all units, and nobody answers that".to_owned()),
        }
    }

    /// The outcome, and what was written where the device took something else than was asked for.
    fn told(mut self, asked: &Value) -> Self {
        let outcome = self.outcome();
        let is_other = match (asked.as_f64(), self.taken.as_f64()) {
            (Some(asked), Some(taken)) => (asked - taken).abs() > asked.abs() * 1e-9,
            _ => false,
        };
        self.words = if is_other { format!("{outcome}, written as {}", self.taken) } else { outcome.to_string() };
        self.outcome = outcome.word();
        self
    }
}

impl PointWrite {
    /// Checks, writes, and reads back. It goes ahead of polls when the running gateway has an open connection to the
    /// same place.
    ///
    /// # Errors
    /// [`WriteError`]
    pub async fn run(&self, via: &Via) -> Result<WriteOutcome, WriteError> {
        let DeviceProtocol::Modbus(device) = &self.device.protocol;
        let written = raw_to_write(&self.point, &self.value)?;
        let writing = Writing::new(device, &self.point, &written).map_err(WriteError::Value)?;
        let mut line = OneOff::open(&self.link, via).await?;
        let alone = line.alone().await;
        let mut frames = Vec::new();
        let request = match writing {
            Writing::Direct(request) => request,
            Writing::ReadModifyWrite { address, and, or } => {
                let read = ReadRequest::new(Table::HoldingRegister, address, 1);
                let read = read.map_err(|error| WriteError::Value(error.to_string()))?;
                let (response, exchange) = line.call(device.unit, read.into(), None).await?;
                frames.extend(exchange.frames);
                let Response::Data(ReadData::Registers(registers)) = response else {
                    return Err(WriteError::Value("the device answered something else".to_owned()));
                };
                let register = registers.first().copied().unwrap_or_default();
                let changed = register & and | or;
                let request = WriteRequest::new(
                    address,
                    match device.writes {
                        WriteFunctions::Single => Written::Register(changed),
                        WriteFunctions::Multiple => Written::Registers(vec![changed]),
                    },
                );
                request.map_err(|error| WriteError::Value(error.to_string()))?
            }
        };
        let exchange = self.send(&mut line, device.unit, request.into()).await?;
        let answer_ms = exchange.milliseconds();
        frames.extend(exchange.frames);
        let mut outcome = WriteOutcome {
            outcome: OutcomeWord::Accepted,
            words: String::new(),
            taken: self.point.shaping.apply(&written),
            address: self.point.address.to_string(),
            written,
            raw: None,
            value: None,
            unit: self.point.settings.unit.clone(),
            confirmed: None,
            read_back_error: None,
            answer_ms,
            shared_connection: line.is_shared(),
            frames,
        };
        let is_broadcast = device.unit == 0 && framing(&self.link.protocol).has_broadcast();
        if !is_broadcast {
            self.read_back(&mut line, device.unit, &mut outcome).await;
        }
        drop(alone);
        Ok(outcome.told(&self.value))
    }

    /// Sends what writes. Only a device that refuses has certainly not done it.
    async fn send(&self, line: &mut OneOff, unit: u8, request: Request) -> Result<Exchange, WriteError> {
        let answer = match line.exchange(unit, request, self.index).await {
            Ok(answer) => answer,
            Err(error @ TrialError::Lost { .. }) => {
                return Err(WriteError::Unknown { why: error.to_string(), frames: Vec::new() });
            }
            Err(error) => return Err(error.into()),
        };
        let Answer { outcome, took, frames } = answer;
        match outcome {
            Ok(_) => Ok(Exchange { took, frames }),
            Err(error @ RequestError::Response(ResponseError::Exception(_))) => {
                Err(TrialError::Device { unit, why: error.to_string(), frames }.into())
            }
            Err(error) => Err(WriteError::Unknown { why: format!("unit {unit}: {error}"), frames }),
        }
    }

    async fn read_back(&self, line: &mut OneOff, unit: u8, outcome: &mut WriteOutcome) {
        let Address::Modbus(address) = self.point.address;
        let read = match request(address, self.point.settings.data_type) {
            Ok(read) => Request::from(read),
            Err(why) => return outcome.read_back_error = Some(why),
        };
        match line.call(unit, read, self.index).await {
            Ok((Response::Data(data), exchange)) => {
                outcome.frames.extend(exchange.frames);
                outcome.raw = Reader::new(PointIndex(0), &self.point).value_of(&data);
                outcome.value = outcome.raw.as_ref().map(|raw| self.point.shaping.apply(raw));
                outcome.confirmed = Some(outcome.raw.as_ref().is_some_and(|raw| is_same(raw, &outcome.written)));
            }
            Ok(_) => outcome.read_back_error = Some("the device answered something else".to_owned()),
            Err(error) => outcome.read_back_error = Some(error.to_string()),
        }
    }
}

/// Whether two raw values are the same, whatever the sign of their type.
fn is_same(left: &Value, right: &Value) -> bool {
    let whole = |value: &Value| match value {
        Value::Int(number) => Some(i128::from(*number)),
        Value::Uint(number) => Some(i128::from(*number)),
        _ => None,
    };
    match (whole(left), whole(right)) {
        (Some(left), Some(right)) => left == right,
        _ => left == right,
    }
}
