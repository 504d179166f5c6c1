use super::target::Target;
use super::{End, Errand, Reply, Step, server_error, something_else};
use crate::link::{Answer, FrameView, PointWrite, WriteError, WriteOutcome};
use crate::opcua::facts::{ServerFacts, attribute_of, read, value_of};
use crate::opcua::mapping::{Reader, built_in, data_type_of, own, variant};
use interlex_core::{DataType, OutcomeWord, Value, check_command, raw_to_write_as};
use interlex_opcua::{
    Array, DataValue, FieldValue, Limits, NodeId, ReadValueId, RequestError, Response, Scalar, StatusCode, Variant,
    WriteRequest, WriteValue,
};
use std::time::Instant;

/// Writes a value and reads it back: the value alone, as the type that the node has.
pub(in crate::opcua) struct WriteErrand {
    write: PointWrite,
    reader: Reader,
    field: Option<Box<str>>,
    element: Option<String>,
    target: Target,
    phase: Phase,
    frames: Vec<FrameView>,
}

enum Phase {
    /// What the node takes is asked for.
    Look,
    Write(Value, Variant),
    ReadBack(Box<WriteOutcome>),
    Done(Option<Result<WriteOutcome, WriteError>>),
}

const DATA_TYPE: u32 = 14;
const USER_ACCESS_LEVEL: u32 = 18;
/// Source: OPC 10000-3, section 8.57: CurrentWrite.
const MAY_WRITE: u8 = 2;

impl WriteErrand {
    /// Checks whether it may be written at all.
    pub(in crate::opcua) fn new(write: PointWrite) -> Result<Self, WriteError> {
        check_command(&write.point, &write.value)?;
        let own = own(&write.point);
        let is_allowed = write.device.protocol.opcua().is_some_and(|device| device.read_modify_write);
        if own.field.is_some() && !is_allowed {
            let why = "a field of a structure is not written alone, and others may change the rest meanwhile: the device allows it \
                       with read-modify-write";
            return Err(WriteError::Value(why.to_owned()));
        }
        if own.field.is_some() && own.element.is_some() {
            let why = "a field of an element is not written: the structure has to be a node of its own";
            return Err(WriteError::Value(why.to_owned()));
        }
        let target = Target::new(&write.device, &write.point, own.field.is_some());
        let (reader, element) = (Reader::new(&write.point), own.element.map(|element| element.to_string()));
        Ok(Self { write, reader, field: own.field, element, target, phase: Phase::Look, frames: Vec::new() })
    }

    fn node(&self) -> NodeId {
        self.target.found().and_then(Result::ok).cloned().unwrap_or_default()
    }

    fn value_id(&self) -> ReadValueId {
        ReadValueId { index_range: self.element.clone(), ..value_of(self.node()) }
    }

    /// What is written, as far as the node takes it.
    fn looked(&self, reply: &Reply) -> Result<(Value, Variant), WriteError> {
        let results = match &reply.outcome {
            Ok(Response::Read(told)) => &told.results,
            Ok(_) => return Err(something_else().into()),
            Err(error) => return Err(server_error(error, reply.frames.clone()).into()),
        };
        let [value, data_type, access] = &results[..] else { return Err(something_else().into()) };
        if let Some(Variant::Scalar(Scalar::Byte(access))) = access.value
            && access & MAY_WRITE == 0
        {
            let why = "the server lets nobody write this node as this user: BadUserAccessDenied";
            return Err(WriteError::Value(why.to_owned()));
        }
        let status = value.status();
        if is_absent(status) {
            return Err(server_error(&status, reply.frames.clone()).into());
        }
        if let Some(field) = &self.field {
            return self.changed(field, value.value.as_ref());
        }
        let told = match &value.value {
            Some(Variant::Scalar(scalar)) => Some(scalar.type_number()),
            Some(Variant::Array(elements)) if self.element.is_some() => Some(elements.type_number()),
            Some(Variant::Array(_) | Variant::Matrix(..)) => {
                return Err(WriteError::Value("the node is an array: its element is to be told".to_owned()));
            }
            Some(Variant::Null) | None => None,
        };
        let told = told.or_else(|| match &data_type.value {
            Some(Variant::Scalar(Scalar::NodeId(data_type))) => built_in(data_type),
            _ => None,
        });
        let number =
            told.ok_or_else(|| WriteError::Value("the server does not tell the type of the node".to_owned()))?;
        let (raw, scalar) = self.as_type(number)?;
        Ok((raw, if self.element.is_some() { one_element(scalar) } else { scalar }))
    }

    /// What is written, as a built-in type.
    fn as_type(&self, number: u8) -> Result<(Value, Variant), WriteError> {
        let point = &self.write.point;
        let described = Some(point.raw_type()).filter(|data_type| *data_type != DataType::Auto);
        let raw_type = described.or_else(|| data_type_of(number));
        let raw_type =
            raw_type.ok_or_else(|| WriteError::Value("values of such a type cannot be written".to_owned()))?;
        let raw = raw_to_write_as(point, &self.write.value, raw_type)?;
        let scalar = variant(&raw, number)
            .ok_or_else(|| WriteError::Value(format!("{raw} does not fit the type that the node has")))?;
        Ok((raw, scalar))
    }

    /// The structure as it is now, with the field changed.
    fn changed(&self, field: &str, value: Option<&Variant>) -> Result<(Value, Variant), WriteError> {
        let refused = |why: &dyn std::fmt::Display| WriteError::Value(format!("{field}: {why}"));
        let Some(Variant::Scalar(Scalar::ExtensionObject(object))) = value else {
            return Err(refused(&"the value of the node is no structure"));
        };
        let (types, limits) = (&self.target.types, Limits::default());
        let fields = types.read(object, limits).map_err(|error| refused(&error))?;
        let Some(FieldValue::Value(Variant::Scalar(now))) = fields.get(field) else {
            return Err(refused(&"the structure has no such field with one value"));
        };
        let (raw, scalar) = self.as_type(now.type_number())?;
        let Variant::Scalar(scalar) = scalar else { return Err(refused(&"not one value")) };
        let object = types.with_field(object, field, &scalar, limits).map_err(|error| refused(&error))?;
        Ok((raw, Variant::Scalar(Scalar::ExtensionObject(object.into()))))
    }

    /// Only a server that refuses has certainly not done it.
    fn after_write(&mut self, written: Value, reply: &Reply) -> Phase {
        let failed = |error: WriteError| Phase::Done(Some(Err(error)));
        let status = match &reply.outcome {
            Ok(Response::Write(told)) => match told.results.first() {
                Some(status) => *status,
                None => return failed(something_else().into()),
            },
            Err(RequestError::Fault(status)) => *status,
            Err(RequestError::NotSent(error)) => return failed(WriteError::Value(error.to_string())),
            Ok(_) => return failed(something_else().into()),
            Err(error) => {
                return failed(WriteError::Unknown { why: format!("server: {error}"), frames: reply.frames.clone() });
            }
        };
        if status.is_bad() {
            return failed(server_error(&status, reply.frames.clone()).into());
        }
        let point = &self.write.point;
        Phase::ReadBack(Box::new(WriteOutcome {
            outcome: OutcomeWord::Accepted,
            words: String::new(),
            taken: point.shaping.apply(&written),
            address: point.address.to_string(),
            written,
            raw: None,
            value: None,
            unit: point.settings.unit.clone(),
            confirmed: None,
            read_back_error: (status.code() == StatusCode::GOOD_COMPLETES_ASYNCHRONOUSLY)
                .then(|| "the server carries it out later".into()),
            answer: None,
            answer_ms: reply.milliseconds(),
            shared_connection: false,
            frames: Vec::new(),
        }))
    }

    fn after_read_back(&mut self, reply: Reply, mut outcome: WriteOutcome) -> Phase {
        match reply.outcome {
            Ok(Response::Read(told)) if !told.results.is_empty() => {
                let value = told.results.into_iter().next().unwrap_or_default();
                let point = &self.write.point;
                let status = value.status();
                outcome.raw = self.reader.read(&value, &self.target.types).value;
                outcome.value = outcome.raw.as_ref().map(|raw| point.shaping.apply(raw));
                match &outcome.raw {
                    Some(raw) => outcome.confirmed = Some(is_same(raw, &outcome.written)),
                    None => outcome.read_back_error = Some(format!("server: {status}").into()),
                }
            }
            Ok(_) => outcome.read_back_error = Some("the server answered something else".into()),
            Err(error) => outcome.read_back_error = Some(format!("server: {error}").into()),
        }
        self.done(outcome)
    }

    fn done(&mut self, outcome: WriteOutcome) -> Phase {
        let outcome = WriteOutcome { frames: std::mem::take(&mut self.frames), ..outcome };
        Phase::Done(Some(Ok(outcome.told(&self.write.value))))
    }
}

impl Errand for WriteErrand {
    fn device(&self) -> &str {
        self.write.device.settings.name.as_str()
    }

    fn writes(&self) -> bool {
        true
    }

    fn next(&mut self, facts: &ServerFacts, _: Instant) -> Step {
        if let Some(request) = self.target.next(facts) {
            return Step::Ask(Box::new(request));
        }
        if let Some(Err(no_node)) = self.target.found() {
            return Step::Done(Box::new(Answer::Written(Err(server_error(&no_node.why, Vec::new()).into()))));
        }
        match &mut self.phase {
            Phase::Look => {
                let attributes = [DATA_TYPE, USER_ACCESS_LEVEL].map(|attribute| attribute_of(self.node(), attribute));
                Step::Ask(Box::new(read(std::iter::once(self.value_id()).chain(attributes).collect())))
            }
            Phase::Write(_, variant) => {
                let value = DataValue { value: Some(variant.clone()), ..DataValue::default() };
                let write =
                    WriteValue { node_id: self.node(), attribute_id: 13, index_range: self.element.clone(), value };
                Step::Ask(Box::new(WriteRequest { nodes_to_write: vec![write], ..WriteRequest::default() }.into()))
            }
            Phase::ReadBack(_) => Step::Ask(Box::new(read(vec![self.value_id()]))),
            Phase::Done(outcome) => {
                let gone = || Err(WriteError::Value("it was told before".to_owned()));
                Step::Done(Box::new(Answer::Written(outcome.take().unwrap_or_else(gone))))
            }
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        let Some(reply) = self.target.take(reply) else { return };
        self.frames.extend(reply.frames.iter().cloned());
        self.phase = match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            Phase::Look => match self.looked(&reply) {
                Ok((raw, variant)) => Phase::Write(raw, variant),
                Err(error) => Phase::Done(Some(Err(error))),
            },
            Phase::Write(written, _) => self.after_write(written, &reply),
            Phase::ReadBack(outcome) => self.after_read_back(reply, *outcome),
            done @ Phase::Done(_) => done,
        };
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        if self.target.is_open() {
            return Answer::Written(Err(error.into()));
        }
        Answer::Written(match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            // Reading changes nothing, and what was not sent neither.
            Phase::Look => Err(error.into()),
            Phase::Write(..) if end.is_sent => Err(WriteError::Unknown { why: error.to_string(), frames: Vec::new() }),
            Phase::Write(..) => Err(error.into()),
            Phase::ReadBack(outcome) => {
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

/// Whether the node is not there, so that nothing can be written to it.
fn is_absent(status: StatusCode) -> bool {
    [StatusCode::BAD_NODE_ID_UNKNOWN, StatusCode::BAD_NODE_ID_INVALID, StatusCode::BAD_ATTRIBUTE_ID_INVALID]
        .contains(&status.code())
}

/// An element of an array is written as an array of one.
fn one_element(scalar: Variant) -> Variant {
    match scalar {
        Variant::Scalar(Scalar::Boolean(bit)) => Variant::Array(Array::Boolean(vec![bit])),
        Variant::Scalar(Scalar::SByte(number)) => Variant::Array(Array::SByte(vec![number])),
        Variant::Scalar(Scalar::Byte(number)) => Variant::Array(Array::Byte(vec![number])),
        Variant::Scalar(Scalar::Int16(number)) => Variant::Array(Array::Int16(vec![number])),
        Variant::Scalar(Scalar::UInt16(number)) => Variant::Array(Array::UInt16(vec![number])),
        Variant::Scalar(Scalar::Int32(number)) => Variant::Array(Array::Int32(vec![number])),
        Variant::Scalar(Scalar::UInt32(number)) => Variant::Array(Array::UInt32(vec![number])),
        Variant::Scalar(Scalar::Int64(number)) => Variant::Array(Array::Int64(vec![number])),
        Variant::Scalar(Scalar::UInt64(number)) => Variant::Array(Array::UInt64(vec![number])),
        Variant::Scalar(Scalar::Float(number)) => Variant::Array(Array::Float(vec![number])),
        Variant::Scalar(Scalar::Double(number)) => Variant::Array(Array::Double(vec![number])),
        Variant::Scalar(Scalar::String(text)) => Variant::Array(Array::String(vec![text])),
        other => other,
    }
}

/// Whether two raw values are the same, whatever the type that carries them.
fn is_same(left: &Value, right: &Value) -> bool {
    left == right || left.as_f64().zip(right.as_f64()).is_some_and(|(left, right)| left.to_bits() == right.to_bits())
}
