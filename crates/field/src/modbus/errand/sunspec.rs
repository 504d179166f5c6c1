use super::{End, Errand, Reply, Step, device_error};
use crate::error::TrialError;
use crate::link::{Answer, FrameView, Via, Work};
use crate::modbus::ModbusDriver;
use crate::modbus::discovery::{Discovery, found};
use interlex_core::description::{Device, DeviceProtocol, Link, Protocol, points_csv};
use interlex_modbus::{ReadData, Response, SunSpecModel, SunSpecPoint, SunSpecWalk};
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::collections::HashSet;
use std::time::Instant;

/// What a device offers by the information models of SunSpec.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct SunSpecOffer {
    /// The address of its marker, zero-based.
    pub base: u16,
    /// Its models, in the order of their addresses.
    pub models: Vec<SunSpecModelView>,
    /// The points that it has, as a point list in CSV form.
    pub text: String,
}

/// One model of a device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct SunSpecModelView {
    /// Its number in the standard.
    pub id: u16,
    /// What the standard calls it; none for models that are not known here.
    pub title: Option<String>,
    /// The address of its id, zero-based.
    pub address: u16,
    /// How many registers follow its length.
    pub length: u16,
    /// How many points the device has of it.
    pub points: usize,
}

/// Finds the SunSpec marker of a device, walks its models and tells its points: with unit, and with the scale factor that
/// the device says now. `rate` is what the points are sampled at.
///
/// # Errors
/// [`TrialError`], also when the device has no marker.
pub async fn sunspec(link: &Link, device: &Device, rate: &str, via: &Via) -> Result<SunSpecOffer, TrialError> {
    let DeviceProtocol::Modbus(modbus) = &device.protocol;
    let discovery = Discovery::SunSpec { unit: modbus.unit, base: modbus.base, rate: rate.to_owned() };
    found(via.carry_out::<ModbusDriver>(link, Work::Discover(Box::new(discovery))).await.0)
}

/// Walks the models of a device.
pub(in crate::modbus) struct SunSpec {
    unit: u8,
    base: u16,
    rate: String,
    walk: SunSpecWalk,
    /// Whether the device answered anything.
    heard: bool,
    /// What it said last where it gave no registers.
    last: Option<(String, Vec<FrameView>)>,
}

impl SunSpec {
    pub(in crate::modbus) fn new(unit: u8, base: u16, rate: String) -> Self {
        Self { unit, base, rate, walk: SunSpecWalk::new(), heard: false, last: None }
    }

    fn found(&mut self) -> Result<SunSpecOffer, TrialError> {
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
        let mut names = HashSet::new();
        let rows: Vec<_> = found
            .models
            .iter()
            .flat_map(|model| model.points.iter().map(move |point| (model, point)))
            .filter_map(|(model, point)| row(model, point, self.base, &self.rate, &mut names))
            .collect();
        let view = |model: &SunSpecModel| SunSpecModelView {
            id: model.id,
            title: model.title.map(str::to_owned),
            address: model.address,
            length: model.length,
            points: model.points.len(),
        };
        Ok(SunSpecOffer {
            base: found.base,
            models: found.models.iter().map(view).collect(),
            text: points_csv(&rows, Some(Protocol::Modbus)),
        })
    }
}

impl Errand for SunSpec {
    fn unit(&self) -> u8 {
        self.unit
    }

    fn next(&mut self, _: Instant) -> Step {
        match self.walk.next_request() {
            Some(request) => Step::Send { unit: self.unit, request: request.into(), written: None },
            None => Step::Done(Answer::Found(self.found().map(|offer| Box::new(offer) as _))),
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        let registers = match reply.outcome {
            Ok(Response::Data(ReadData::Registers(registers))) => Some(registers),
            outcome => {
                self.last = outcome.err().map(|error| (error.to_string(), reply.frames));
                None
            }
        };
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

fn row(
    model: &SunSpecModel,
    point: &SunSpecPoint,
    base: u16,
    rate: &str,
    names: &mut HashSet<String>,
) -> Option<Value> {
    let data_type = match point.kind {
        "int16" => "int16".to_owned(),
        "int32" => "int32".to_owned(),
        "uint32" | "acc32" | "bitfield32" | "enum32" => "uint32".to_owned(),
        "uint64" | "acc64" => "uint64".to_owned(),
        "float32" => "float32".to_owned(),
        "string" => format!("string({})", point.size * 2),
        _ => "uint16".to_owned(),
    };
    let mut name = format!("{}/{}", group(model.id), point.name);
    // A device may have a model several times.
    let mut number = 1;
    while !names.insert(name.clone()) {
        number += 1;
        name = format!("{}-{number}/{}", group(model.id), point.name);
    }
    let address = format!("holding:{}", point.address.checked_sub(base)?);
    let mut row = Map::from_iter([
        ("name".to_owned(), json!(name)),
        ("address".to_owned(), json!(address)),
        ("type".to_owned(), json!(data_type)),
        ("unit".to_owned(), json!(point.unit)),
        ("rate".to_owned(), json!(rate)),
        ("title".to_owned(), json!(point.label)),
    ]);
    // As a person would write it: 0.01, not what a power of a binary fraction gives.
    if let Some(scale) = format!("1e{}", point.scale_factor).parse::<f64>().ok().filter(|_| point.scale_factor != 0) {
        row.insert("scale".to_owned(), json!(scale));
    }
    if !point.words.is_empty() && point.scale_factor == 0 {
        row.insert("enumeration".to_owned(), json!(point.words));
    }
    Some(Value::Object(row))
}
