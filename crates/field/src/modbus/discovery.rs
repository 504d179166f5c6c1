//! What Modbus devices can be asked of themselves: the sources of their offers, and what is done for each.

use super::errand::{Errand, Identify, Scan, Scanning, SunSpec};
use crate::link::{OfferRequest, OfferSource};
use interlex_core::OfferEvent;
use interlex_core::description::{Form, ModbusDevice, ModbusTable};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;
use std::time::Duration;
use tokio::sync::mpsc;

/// What can be found out about Modbus devices.
pub(crate) enum Discovery {
    /// Who a unit is.
    Identify(u8),
    /// The SunSpec models of a unit.
    SunSpec { unit: u8, base: u16 },
    /// Units, or addresses.
    Scan { scan: Scan, pace: Duration, events: mpsc::Sender<OfferEvent> },
}

impl Discovery {
    pub(super) fn errand(self) -> Box<dyn Errand> {
        match self {
            Self::Identify(unit) => Box::new(Identify::new(unit)),
            Self::SunSpec { unit, base } => Box::new(SunSpec::new(unit, base)),
            Self::Scan { scan, pace, events } => Box::new(Scanning::new(scan, pace, events)),
        }
    }
}

/// Which units answer on a link.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct UnitsForm {
    /// The first unit.
    #[serde(default = "one")]
    first: u8,
    /// The last unit.
    #[serde(default = "last_unit")]
    last: u8,
    /// How many requests a second it may take.
    #[serde(default = "twenty")]
    #[schemars(range(min = 1, max = 100))]
    per_second: u32,
}

/// Which addresses of one table a unit has.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct AddressesForm {
    /// The table.
    #[serde(default)]
    table: TableWord,
    /// The first address, as lists have it.
    #[serde(default)]
    first: u16,
    /// The last address, as lists have it.
    #[serde(default = "last_address")]
    last: u16,
    /// How many requests a second it may take.
    #[serde(default = "twenty")]
    #[schemars(range(min = 1, max = 100))]
    per_second: u32,
}

#[derive(Debug, Default, Clone, Copy, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum TableWord {
    #[default]
    Holding,
    Input,
    Coil,
    Discrete,
}

/// Where the models of SunSpec are looked for is in the standard.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct SunSpecForm {}

const fn one() -> u8 {
    1
}

const fn last_unit() -> u8 {
    247
}

const fn last_address() -> u16 {
    999
}

const fn twenty() -> u32 {
    20
}

static UNITS: LazyLock<Form> = LazyLock::new(Form::of::<UnitsForm>);
static ADDRESSES: LazyLock<Form> = LazyLock::new(Form::of::<AddressesForm>);
static SUNSPEC: LazyLock<Form> = LazyLock::new(Form::of::<SunSpecForm>);

/// What Modbus devices tell of themselves.
pub(crate) fn sources() -> Vec<OfferSource> {
    let source =
        |word, title, of_device, form: &Form| OfferSource { word, title, of_device, form: form.document().clone() };
    vec![
        source("units", "Which units answer", false, &UNITS),
        source("addresses", "Which addresses it has", true, &ADDRESSES),
        source("sunspec", "SunSpec models", true, &SUNSPEC),
    ]
}

/// What is to be done for a source; what it finds on its way it tells by `events`.
pub(crate) fn discovery(request: &OfferRequest, events: &mpsc::Sender<OfferEvent>) -> Result<Discovery, String> {
    let (scan, per_second) = match request.source.as_str() {
        "units" => {
            let UnitsForm { first, last, per_second } = UNITS.read(&request.filled)?;
            in_order(first.into(), last.into())?;
            (Scan::Units(first..=last), per_second)
        }
        "addresses" => {
            let AddressesForm { table, first, last, per_second } = ADDRESSES.read(&request.filled)?;
            in_order(first, last)?;
            (addresses(device(request)?, table, first, last)?, per_second)
        }
        "sunspec" => {
            let SunSpecForm {} = SUNSPEC.read(&request.filled)?;
            let device = device(request)?;
            return Ok(Discovery::SunSpec { unit: device.unit, base: device.base });
        }
        other => {
            let known: Vec<_> = sources().into_iter().map(|source| source.word).collect();
            return Err(format!("source is {other:?}; expected one of {}", known.join(", ")));
        }
    };
    Ok(Discovery::Scan { scan, pace: Duration::from_secs(1) / per_second.max(1), events: events.clone() })
}

fn in_order(first: u16, last: u16) -> Result<(), String> {
    if first <= last { Ok(()) } else { Err(format!("first is {first} and last {last}; expected the lower one first")) }
}

fn device(request: &OfferRequest) -> Result<&ModbusDevice, String> {
    let device = request.device.as_ref().ok_or("there is no device; expected the one that is asked")?;
    device.protocol.modbus().ok_or_else(|| "the device speaks another protocol".to_owned())
}

/// The addresses of a list, where the device has them: with its base, and without its holes.
fn addresses(device: &ModbusDevice, table: TableWord, first: u16, last: u16) -> Result<Scan, String> {
    let table = match table {
        TableWord::Holding => ModbusTable::Holding,
        TableWord::Input => ModbusTable::Input,
        TableWord::Coil => ModbusTable::Coil,
        TableWord::Discrete => ModbusTable::Discrete,
    };
    let (unit, base) = (device.unit, device.base);
    let past =
        || format!("first is {first}, and with a base of {base} that is past address 65535; expected a lower one");
    let (from, to) = (first.checked_add(base).ok_or_else(past)?, last.saturating_add(base));
    let at_once = if table.is_bits() { device.max_bits } else { device.max_registers };
    Ok(Scan::Addresses { unit, base, table, stretches: device.holes.left_of(table, from, to), at_once })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scan_goes_where_the_lists_of_a_device_point_and_never_into_its_holes() {
        let device = serde_json::from_value(serde_json::json!({
            "unit": 7, "base": 100, "max-registers": 20, "holes": "holding:105-109;holding:199-65535;input:0"
        }));
        let scan = addresses(&device.unwrap(), TableWord::Holding, 0, 999).unwrap();
        let stretches = vec![(100, 104), (110, 198)];
        let expected = Scan::Addresses { unit: 7, base: 100, table: ModbusTable::Holding, stretches, at_once: 20 };
        assert_eq!(scan, expected);
        let device = serde_json::from_value(serde_json::json!({ "unit": 7, "base": 65_000 })).unwrap();
        assert!(addresses(&device, TableWord::Coil, 600, 900).unwrap_err().contains("past address 65535"));
    }

    #[test]
    fn what_is_asked_for_is_checked_like_a_description() {
        for (filled, told) in [
            (serde_json::json!({ "per-second": 0 }), "per-second is 0; expected 1 or more"),
            (serde_json::json!({ "first": 300 }), "first is 300; expected 255 or less"),
            (serde_json::json!({ "firts": 3 }), "firts is no known key; expected first?"),
        ] {
            assert_eq!(UNITS.read::<UnitsForm>(&filled).unwrap_err(), told);
        }
        let empty = serde_json::json!({});
        assert_eq!(UNITS.read::<UnitsForm>(&empty).unwrap().last, 247);
        assert_eq!(ADDRESSES.read::<AddressesForm>(&empty).unwrap().last, 999);
        SUNSPEC.read::<SunSpecForm>(&empty).unwrap();
        let filled = serde_json::json!({ "table": "coils" });
        let told = "table is \"coils\"; expected one of holding, input, coil, discrete";
        assert_eq!(ADDRESSES.read::<AddressesForm>(&filled).unwrap_err(), told);
    }
}
