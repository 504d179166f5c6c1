use super::{End, Errand, Reply, Step, device_error};
use crate::error::TrialError;
use crate::link::{Answer, FrameView};
use interlex_core::{ByteOrder, DataType, Offer, OfferEvent, decode_registers};
use interlex_modbus::{ReadData, RequestError, Response, SunSpecModel, SunSpecPoint, SunSpecWalk};
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use std::time::Instant;

/// Walks the models of a device.
pub(in crate::modbus) struct SunSpec {
    unit: u8,
    base: u16,
    walk: SunSpecWalk,
    requests: u32,
    /// Whether the device answered anything.
    heard: bool,
    /// What it said last where it gave no registers.
    last: Option<(String, Vec<FrameView>)>,
}

impl SunSpec {
    pub(in crate::modbus) const fn new(unit: u8, base: u16) -> Self {
        Self { unit, base, walk: SunSpecWalk::new(), requests: 0, heard: false, last: None }
    }

    fn found(&mut self) -> Result<Vec<OfferEvent>, TrialError> {
        let unit = self.unit;
        let walk = std::mem::replace(&mut self.walk, SunSpecWalk::new());
        let Some(found) = walk.found() else {
            return Err(match self.last.take().filter(|_| !self.heard) {
                Some((why, frames)) => device_error(unit, &why, frames),
                None => TrialError::Request(format!(
                    "unit {unit} has no SunSpec marker at holding register 40000, 0 or 50000"
                )),
            });
        };
        let mut events = Vec::new();
        let mut groups = HashSet::new();
        for model in &found.models {
            let title = model.title.unwrap_or("not known here");
            let (points, from) = (model.points.len(), model.address);
            events.push(OfferEvent::Note {
                text: format!("model {} at holding:{from}, {points} points: {title}", model.id),
            });
            // A device may have a model several times.
            let mut name = group(model.id).to_owned();
            let mut number = 1;
            while !groups.insert(name.clone()) {
                number += 1;
                name = format!("{}-{number}", group(model.id));
            }
            let offers: Vec<_> =
                model.points.iter().filter_map(|point| offer(&name, model, point, self.base)).collect();
            events.extend((!offers.is_empty()).then_some(OfferEvent::Points { offers }));
        }
        events.push(OfferEvent::Done { requests: self.requests });
        Ok(events)
    }
}

impl Errand for SunSpec {
    fn unit(&self) -> u8 {
        self.unit
    }

    fn next(&mut self, _: Instant) -> Step {
        match self.walk.next_request() {
            Some(request) => Step::Send { unit: self.unit, request: request.into(), written: None },
            None => Step::Done(Answer::Found(self.found().map(|events| Box::new(events) as _))),
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        let registers = match reply.outcome {
            Ok(Response::Data(ReadData::Registers(registers))) => Some(registers),
            outcome => {
                // A refusal is an answer: it is there, and has nothing at that place.
                self.heard |= matches!(outcome, Err(RequestError::Response(_)));
                self.last = outcome.err().map(|error| (error.to_string(), reply.frames));
                None
            }
        };
        self.requests += 1;
        self.heard |= registers.is_some();
        self.walk.answer(registers.as_deref());
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Found(Err(end.error()))
    }
}

/// What comes before the names of a model's points.
const fn group(model: u16) -> &'static str {
    match model {
        1 => "common",
        101..=113 => "inverter",
        120 => "nameplate",
        121 => "settings",
        122 => "status",
        123 => "controls",
        124 => "storage",
        160 => "mppt",
        201..=214 => "meter",
        802 => "battery",
        _ => "model",
    }
}

fn offer(group: &str, model: &SunSpecModel, point: &SunSpecPoint, base: u16) -> Option<Offer> {
    let data_type = match point.kind {
        "int16" => DataType::Int16,
        "int32" => DataType::Int32,
        "uint32" | "acc32" | "bitfield32" | "enum32" => DataType::Uint32,
        "uint64" | "acc64" => DataType::Uint64,
        "float32" => DataType::Float32,
        "string" => format!("string({})", point.size * 2).parse().ok()?,
        _ => DataType::Uint16,
    };
    let address = format!("holding:{}", point.address.checked_sub(base)?);
    let mut row = Map::from_iter([
        ("address".to_owned(), json!(address)),
        ("type".to_owned(), json!(data_type.to_string())),
        ("unit".to_owned(), json!(point.unit)),
        ("title".to_owned(), json!(point.label)),
    ]);
    // As a person would write it: 0.01, not what a power of a binary fraction gives.
    if let Some(scale) = format!("1e{}", point.scale_factor).parse::<f64>().ok().filter(|_| point.scale_factor != 0) {
        row.insert("scale".to_owned(), json!(scale));
    }
    if !point.words.is_empty() && point.scale_factor == 0 {
        row.insert("enumeration".to_owned(), json!(point.words));
    }
    let value = decode_registers(&point.registers, data_type, ByteOrder::Abcd);
    Some(Offer {
        path: vec![group.to_owned(), point.name.to_owned()],
        point: row,
        value: value.map_or(Value::Null, |value| json!(value)),
        quality: String::new(),
        note: format!("model {}, {}", model.id, point.kind),
    })
}
