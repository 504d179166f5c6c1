use crate::error::TrialError;
use crate::modbus::one_off::{OneOff, Via};
use interlex_core::description::{Device, DeviceProtocol, Link, points_csv};
use interlex_modbus::{ReadData, Response, SunSpecModel, SunSpecPoint, SunSpecWalk};
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::collections::HashSet;

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
    let mut line = OneOff::open(link, via).await?;
    let mut walk = SunSpecWalk::new();
    let (mut heard, mut last) = (false, None);
    while let Some(request) = walk.next_request() {
        let answer = line.exchange(modbus.unit, request.into(), None).await?;
        let registers = match answer.outcome {
            Ok(Response::Data(ReadData::Registers(registers))) => Some(registers),
            outcome => {
                last = outcome.err().map(|error| (error.to_string(), answer.frames));
                None
            }
        };
        heard |= registers.is_some();
        walk.answer(registers.as_deref());
    }
    let Some(found) = walk.found() else {
        return Err(match last.filter(|_| !heard) {
            Some((why, frames)) => TrialError::Device { unit: modbus.unit, why, frames },
            None => TrialError::Request(format!(
                "unit {} has no SunSpec marker at holding register 40000, 0 or 50000",
                modbus.unit
            )),
        });
    };
    let mut names = HashSet::new();
    let rows: Vec<_> = found
        .models
        .iter()
        .flat_map(|model| model.points.iter().map(move |point| (model, point)))
        .filter_map(|(model, point)| row(model, point, modbus.base, rate, &mut names))
        .collect();
    let view = |model: &SunSpecModel| SunSpecModelView {
        id: model.id,
        title: model.title.map(str::to_owned),
        address: model.address,
        length: model.length,
        points: model.points.len(),
    };
    Ok(SunSpecOffer { base: found.base, models: found.models.iter().map(view).collect(), text: points_csv(&rows) })
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
