use crate::gateway::Running;
use crate::line::Line;
use crate::modbus::{self, Reader, Writing};
use crate::{FrameView, TrialError};
use interlex_core::description::{Address, Device, DeviceProtocol, Link, Point};
use interlex_core::{CommandRefusal, PointIndex, Value, raw_to_write};
use interlex_modbus::{ReadData, ReadRequest, Request, Response, Table, WriteRequest, Written};
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
    /// The address, in its canonical form.
    pub address: String,
    /// The raw value that was written.
    #[schema(value_type = serde_json::Value)]
    pub written: Value,
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
}

impl PointWrite {
    /// Checks, writes, and reads back. It goes ahead of polls when the running gateway has an open connection to the
    /// same place.
    ///
    /// # Errors
    /// [`WriteError`]
    pub async fn run(&self, running: Option<&Running>) -> Result<WriteOutcome, WriteError> {
        let DeviceProtocol::Modbus(device) = &self.device.protocol;
        let written = raw_to_write(&self.point, &self.value)?;
        let writing = Writing::new(device, &self.point, &written).map_err(WriteError::Value)?;
        let mut line = Line::open(&self.link, running).await?;
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
                let request = WriteRequest::new(address, Written::Register(register & and | or));
                request.map_err(|error| WriteError::Value(error.to_string()))?
            }
        };
        let (_, exchange) = line.call(device.unit, request.into(), self.index).await?;
        let answer_ms = exchange.milliseconds();
        frames.extend(exchange.frames);
        let mut outcome = WriteOutcome {
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
        let is_broadcast = device.unit == 0 && modbus::framing(&self.link.protocol).has_broadcast();
        if !is_broadcast {
            self.read_back(&mut line, device.unit, &mut outcome).await;
        }
        drop(alone);
        Ok(outcome)
    }

    async fn read_back(&self, line: &mut Line, unit: u8, outcome: &mut WriteOutcome) {
        let Address::Modbus(address) = self.point.address;
        let read = match modbus::request(address, self.point.settings.data_type) {
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
