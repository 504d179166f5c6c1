use super::target::Target;
use super::{End, Errand, Reply, Step, server_error, something_else};
use crate::error::TrialError;
use crate::link::{Answer, Said, TrialRead, TrialReading};
use crate::opcua::facts::{ServerFacts, attribute_of, read};
use crate::opcua::mapping::{Reader, own};
use interlex_core::iso_time;
use interlex_opcua::{DataValue, DateTime, ReadValueId, Response, Scalar, Variant};
use std::time::Instant;

/// Reads a point once.
pub(in crate::opcua) struct ReadErrand {
    read: TrialRead,
    reader: Reader,
    target: Target,
    answer: Option<Result<TrialReading, TrialError>>,
}

impl ReadErrand {
    pub(in crate::opcua) fn new(read: TrialRead) -> Self {
        let reader = Reader::new(&read.point);
        let target = Target::new(&read.device, &read.point, reader.needs_structure());
        Self { read, reader, target, answer: None }
    }

    fn reading(&self, told: &DataValue, reply: &Reply) -> Result<TrialReading, TrialError> {
        let understood = self.reader.read(told, &self.target.types);
        let (point, status) = (&self.read.point, told.status());
        if status.is_bad() {
            return Err(server_error(&status, reply.frames.clone()));
        }
        let Some(raw) = understood.value else {
            let why = understood.quality.reason().map_or_else(|| "no value".to_owned(), crate::opcua::words);
            let is_structure = matches!(&told.value, Some(Variant::Scalar(Scalar::ExtensionObject(_))));
            let hint = if is_structure && !self.reader.needs_structure() {
                "the value is a structure: field says which part of it is meant"
            } else {
                "the value cannot be read as described"
            };
            return Err(server_error(&format!("{why}: {hint}"), reply.frames.clone()));
        };
        let mut said = vec![Said::new("status", status)];
        said.extend(understood.data_type.map(|data_type| Said::new("type", data_type)));
        let time = |time: Option<DateTime>| Some(iso_time(time?.unix_millis()?));
        said.extend(time(told.source_time).map(|time| Said::new("source time", time)));
        said.extend(time(told.server_time).map(|time| Said::new("server time", time)));
        let picoseconds = |count: u16| format!("{} ps", u32::from(count) * 10);
        said.extend(told.source_picoseconds.map(|count| Said::new("source picoseconds", picoseconds(count))));
        said.extend(told.server_picoseconds.map(|count| Said::new("server picoseconds", picoseconds(count))));
        if let Some(Ok(node)) = self.target.found() {
            said.push(Said::new("node", node));
        }
        Ok(TrialReading {
            address: point.address.to_string(),
            registers: Vec::new(),
            value: Some(point.shaping.apply(&raw)),
            raw: Some(raw),
            unit: point.settings.unit.clone(),
            answer_ms: reply.milliseconds(),
            shared_connection: false,
            frames: reply.frames.clone(),
            alternatives: Vec::new(),
            said,
        })
    }
}

impl Errand for ReadErrand {
    fn device(&self) -> &str {
        self.read.device.settings.name.as_str()
    }

    fn next(&mut self, facts: &ServerFacts, _: Instant) -> Step {
        if let Some(answer) = self.answer.take() {
            return Step::Done(Box::new(Answer::Read(answer)));
        }
        if let Some(request) = self.target.next(facts) {
            return Step::Ask(Box::new(request));
        }
        match self.target.found() {
            Some(Ok(node)) => {
                let element = own(&self.read.point).element.map(|element| element.to_string());
                let what = attribute_of(node.clone(), self.reader.attribute());
                Step::Ask(Box::new(read(vec![ReadValueId { index_range: element, ..what }])))
            }
            Some(Err(no_node)) => Step::Done(Box::new(Answer::Read(Err(server_error(&no_node.why, Vec::new()))))),
            None => Step::Done(Box::new(Answer::Read(Err(something_else())))),
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        let Some(reply) = self.target.take(reply) else { return };
        self.answer = Some(match &reply.outcome {
            Ok(Response::Read(told)) => match told.results.first() {
                Some(value) => self.reading(value, &reply),
                None => Err(something_else()),
            },
            Ok(_) => Err(something_else()),
            Err(error) => Err(server_error(error, reply.frames)),
        });
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Read(self.answer.take().unwrap_or_else(|| Err(end.error())))
    }
}
