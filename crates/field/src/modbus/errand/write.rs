use super::{End, Errand, NOT_OURS, Reply, Step, device_error};
use crate::link::{Answer, FrameView, PointWrite, WriteError, WriteOutcome};
use crate::modbus::connect::{framing, own};
use crate::modbus::frames::peer;
use crate::modbus::mapping::{Reader, request};
use crate::modbus::writing::Writing;
use interlex_core::description::{ModbusDevice, WriteFunctions};
use interlex_core::{OutcomeWord, Value, raw_to_write};
use interlex_modbus::{
    ReadData, ReadRequest, Request, RequestError, Response, ResponseError, Table, WriteRequest, Written,
};
use std::time::Instant;

/// Writes a value and reads it back. Bits that are written by changing their register are read before; nobody else writes to the
/// unit between that and the reading back.
pub(in crate::modbus) struct WriteErrand {
    write: PointWrite,
    unit: u8,
    device: ModbusDevice,
    written: Value,
    phase: Phase,
    frames: Vec<FrameView>,
}

enum Phase {
    /// The register is read, of which bits are changed.
    ReadFirst {
        read: ReadRequest,
        address: u16,
        and: u16,
        or: u16,
    },
    Write(WriteRequest),
    ReadBack {
        read: ReadRequest,
        outcome: Box<WriteOutcome>,
    },
    Done(Option<Result<WriteOutcome, WriteError>>),
}

impl WriteErrand {
    /// Checks whether it may be written at all.
    pub(in crate::modbus) fn new(write: PointWrite) -> Result<Self, WriteError> {
        let device = write.device.protocol.modbus().ok_or_else(|| WriteError::Value(NOT_OURS.to_owned()))?.clone();
        let written = raw_to_write(&write.point, &write.value)?;
        let phase = match Writing::new(&device, &write.point, &written).map_err(WriteError::Value)? {
            Writing::Direct(request) => Phase::Write(request),
            Writing::ReadModifyWrite { address, and, or } => {
                let read = ReadRequest::new(Table::HoldingRegister, address, 1);
                let read = read.map_err(|error| WriteError::Value(error.to_string()))?;
                Phase::ReadFirst { read, address, and, or }
            }
        };
        Ok(Self { write, unit: device.unit, device, written, phase, frames: Vec::new() })
    }

    fn failed(error: impl Into<WriteError>) -> Phase {
        Phase::Done(Some(Err(error.into())))
    }

    /// The register with its bits changed.
    fn changed(&self, reply: &Reply, address: u16, (and, or): (u16, u16)) -> Phase {
        let registers = match &reply.outcome {
            Ok(Response::Data(ReadData::Registers(registers))) => registers,
            Ok(_) => return Self::failed(WriteError::Value("the device answered something else".to_owned())),
            Err(error) => return Self::failed(device_error(self.unit, error, reply.frames.clone())),
        };
        let changed = registers.first().copied().unwrap_or_default() & and | or;
        let written = match self.device.writes {
            WriteFunctions::Single => Written::Register(changed),
            WriteFunctions::Multiple => Written::Registers(vec![changed]),
        };
        match WriteRequest::new(address, written) {
            Ok(request) => Phase::Write(request),
            Err(error) => Self::failed(WriteError::Value(error.to_string())),
        }
    }

    /// Only a device that refuses has certainly not done it.
    fn after_write(&mut self, reply: &Reply) -> Phase {
        match &reply.outcome {
            Ok(_) => {}
            Err(error @ RequestError::Response(ResponseError::Exception(_))) => {
                return Self::failed(device_error(self.unit, error, reply.frames.clone()));
            }
            Err(error) => {
                let why = format!("{}: {error}", peer(self.unit));
                return Self::failed(WriteError::Unknown { why, frames: reply.frames.clone() });
            }
        }
        let point = &self.write.point;
        let mut outcome = WriteOutcome {
            outcome: OutcomeWord::Accepted,
            words: String::new(),
            taken: point.shaping.apply(&self.written),
            address: point.address.to_string(),
            written: self.written.clone(),
            raw: None,
            value: None,
            unit: point.settings.unit.clone(),
            confirmed: None,
            read_back_error: None,
            answer: None,
            answer_ms: reply.milliseconds(),
            shared_connection: false,
            frames: Vec::new(),
        };
        if self.unit == 0 && framing(own(&self.write.link)).has_broadcast() {
            return self.done(outcome);
        }
        let read = point.modbus().ok_or_else(|| NOT_OURS.to_owned());
        match read.and_then(|(address, _)| request(address, point.settings.data_type)) {
            Ok(read) => Phase::ReadBack { read, outcome: Box::new(outcome) },
            Err(why) => {
                outcome.read_back_error = Some(why.into());
                self.done(outcome)
            }
        }
    }

    fn after_read_back(&mut self, reply: Reply, mut outcome: WriteOutcome) -> Phase {
        match reply.outcome {
            Ok(Response::Data(data)) => {
                let point = &self.write.point;
                outcome.raw = Reader::new(0, point).and_then(|reader| reader.value_of(&data));
                outcome.value = outcome.raw.as_ref().map(|raw| point.shaping.apply(raw));
                outcome.confirmed = Some(outcome.raw.as_ref().is_some_and(|raw| is_same(raw, &outcome.written)));
            }
            Ok(_) => outcome.read_back_error = Some("the device answered something else".into()),
            Err(error) => outcome.read_back_error = Some(format!("{}: {error}", peer(self.unit)).into()),
        }
        self.done(outcome)
    }

    fn done(&mut self, outcome: WriteOutcome) -> Phase {
        let outcome = WriteOutcome { frames: std::mem::take(&mut self.frames), ..outcome };
        Phase::Done(Some(Ok(outcome.told(&self.write.value))))
    }
}

impl Errand for WriteErrand {
    fn unit(&self) -> u8 {
        self.unit
    }

    fn writes(&self) -> bool {
        true
    }

    fn next(&mut self, _: Instant) -> Step {
        let (unit, point) = (self.unit, self.write.index);
        let (request, written): (Request, _) = match &mut self.phase {
            Phase::ReadFirst { read, .. } => ((*read).into(), None),
            Phase::Write(request) => (request.clone().into(), point),
            Phase::ReadBack { read, .. } => ((*read).into(), point),
            Phase::Done(outcome) => {
                let gone = || Err(WriteError::Value("it was told before".to_owned()));
                return Step::Done(Answer::Written(outcome.take().unwrap_or_else(gone)));
            }
        };
        Step::Send { unit, request, written }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        self.frames.extend(reply.frames.iter().cloned());
        self.phase = match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            Phase::ReadFirst { address, and, or, .. } => self.changed(&reply, address, (and, or)),
            Phase::Write(_) => self.after_write(&reply),
            Phase::ReadBack { outcome, .. } => self.after_read_back(reply, *outcome),
            done @ Phase::Done(_) => done,
        };
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        Answer::Written(match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            // Reading changes nothing, and what was not sent neither.
            Phase::ReadFirst { .. } => Err(error.into()),
            Phase::Write(_) if end.is_sent => Err(WriteError::Unknown { why: error.to_string(), frames: Vec::new() }),
            Phase::Write(_) => Err(error.into()),
            Phase::ReadBack { outcome, .. } => {
                let outcome = WriteOutcome { read_back_error: Some(error.to_string().into()), ..*outcome };
                match self.done(outcome) {
                    Phase::Done(Some(told)) => told,
                    _ => Err(error.into()),
                }
            }
            Phase::Done(told) => told.unwrap_or_else(|| Err(error.into())),
        })
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
