use super::address::{ModbusTable, decimal};
use crate::description::problem::Fault;
use crate::description::{Device, DeviceSettings, Name};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

/// One Modbus unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusDevice {
    /// Unit identifier, 0 to 255. Devices with their own IP address mostly take 1, 0 or 255. Several devices may share one, each with
    /// its base, where one controller stands for several machines.
    pub unit: u8,
    /// The most registers that the device answers at once (the standard allows 125).
    #[serde(default = "default_max_registers")]
    #[schemars(range(min = 1, max = 125), extend("x-advanced" = true))]
    pub max_registers: u16,
    /// The most coils or discrete inputs that the device answers at once (the standard allows 2000).
    #[serde(default = "default_max_bits")]
    #[schemars(range(min = 1, max = 2000), extend("x-advanced" = true))]
    pub max_bits: u16,
    /// How many unused addresses a merged read may cross. 0 reads only what the point list names.
    #[serde(default)]
    #[schemars(range(max = 124), extend("x-advanced" = true))]
    pub max_gap: u16,
    /// How often an unanswered request is sent again before the device counts as silent.
    #[serde(default = "default_retries")]
    #[schemars(range(max = 10), extend("x-advanced" = true))]
    pub retries: u8,
    /// Addresses that no request may touch, such as holding:50-59;input:7: some devices stop when they are read.
    #[serde(default, skip_serializing_if = "Holes::is_empty")]
    #[schemars(extend("x-advanced" = true, "default" = ""))]
    pub holes: Holes,
    /// What is added to every address of the point list, for makers that put the same map at another place.
    #[serde(default, skip_serializing_if = "is_zero")]
    #[schemars(extend("x-advanced" = true, "default" = 0))]
    pub base: u16,
    /// What the scale of the points marked by-ratio is multiplied with: the ratio of the current transformers, say.
    #[serde(default = "default_ratio", skip_serializing_if = "is_unity")]
    #[schemars(extend("x-advanced" = true, "default" = 1.0))]
    pub ratio: f64,
    /// How one value is written.
    #[serde(default, skip_serializing_if = "is_single")]
    #[schemars(extend("x-advanced" = true, "default" = "single"))]
    pub writes: WriteFunctions,
    /// How some bits of a register are written.
    #[serde(default, skip_serializing_if = "is_mask")]
    #[schemars(extend("x-advanced" = true, "default" = "mask"))]
    pub bit_writes: BitWrites,
}

impl ModbusDevice {
    /// What is of each device, where several share a unit; all else is of the unit.
    const OWN: [&str; 2] = ["base", "ratio"];

    /// What its keys have against each other.
    pub(in crate::description) fn fault(&self) -> Option<Fault> {
        let message = "a ratio of 0 makes every value 0";
        (self.ratio == 0.0).then(|| Fault::new("ratio", message, "a number that is not 0"))
    }

    /// A setting of the unit for which two devices that share it say different things, and what the other says; nothing where it
    /// leaves it out.
    fn clash(&self, other: &Self) -> Option<(String, Option<String>)> {
        let settings = |device: &Self| serde_json::to_value(device).unwrap_or_default();
        let (own, theirs) = (settings(self), settings(other));
        let keys = own.as_object().into_iter().chain(theirs.as_object()).flat_map(serde_json::Map::keys);
        let key = keys.filter(|key| !Self::OWN.contains(&key.as_str())).find(|key| own.get(key) != theirs.get(key))?;
        Some((key.clone(), theirs.get(key).map(ToString::to_string)))
    }
}

/// What is wrong between devices that share a unit.
pub(in crate::description) fn shared_units(devices: &[(usize, Device)]) -> Vec<(usize, Fault)> {
    let mut units: BTreeMap<(&Name, u8), Vec<(&Name, &ModbusDevice)>> = BTreeMap::new();
    let mut faults = Vec::new();
    for (at, device) in devices {
        let Some(modbus) = device.protocol.modbus() else { continue };
        let sharing = units.entry((&device.settings.link, modbus.unit)).or_default();
        faults.extend(shared_unit(&device.settings, modbus, sharing).map(|fault| (*at, fault)));
        sharing.push((&device.settings.name, modbus));
    }
    faults
}

/// All devices of a unit have its settings, and each a base of its own.
fn shared_unit(settings: &DeviceSettings, modbus: &ModbusDevice, sharing: &[(&Name, &ModbusDevice)]) -> Option<Fault> {
    let who = |name: &Name| {
        format!("unit {} on link {:?} is device {:?} too", modbus.unit, settings.link.as_str(), name.as_str())
    };
    let (first, of_first) = sharing.first()?;
    if let Some((key, theirs)) = modbus.clash(of_first) {
        let theirs = theirs.map_or_else(|| format!("without {key}"), |theirs| format!("whose {key} is {theirs}"));
        let message = format!("{}, {theirs}", who(first));
        return Some(Fault::new(&key, message, "the same, or a unit of its own"));
    }
    let (same, _) = sharing.iter().find(|(_, other)| other.base == modbus.base)?;
    let message = format!("{}, with the same base", who(same));
    Some(Fault::warning("unit", message, "a unit of its own, or another base where one controller is several machines"))
}

/// Which functions write one value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WriteFunctions {
    /// 05 and 06 for one coil or register, 16 for values of several registers.
    #[default]
    Single,
    /// 15 and 16 for all, for devices without 05 and 06.
    Multiple,
}

/// Which functions write some bits of a register.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BitWrites {
    /// 22: the device changes them in one step.
    #[default]
    Mask,
    /// Read the register, change the bits, write it, for devices without 22. What others write meanwhile is lost.
    ReadModifyWrite,
}

fn default_ratio() -> f64 {
    1.0
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_zero(number: &u16) -> bool {
    *number == 0
}

#[expect(clippy::trivially_copy_pass_by_ref, clippy::float_cmp, reason = "serde hands out references; exactly one")]
const fn is_unity(number: &f64) -> bool {
    *number == 1.0
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
fn is_single(writes: &WriteFunctions) -> bool {
    *writes == WriteFunctions::Single
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
fn is_mask(writes: &BitWrites) -> bool {
    *writes == BitWrites::Mask
}

/// Addresses that no request may touch: `holding:50-59;input:7`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Holes(Vec<(ModbusTable, u16, u16)>);

/// A text that is no list of holes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no list of addresses")]
pub struct ParseHolesError(String);

impl Holes {
    /// What a file should say, for messages.
    pub const FORM: &str = "addresses and ranges with ; between them, such as holding:50-59;input:7";

    /// Whether there are none.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What they leave of a range of a table, in its order.
    #[must_use]
    pub fn left_of(&self, table: ModbusTable, first: u16, last: u16) -> Vec<(u16, u16)> {
        let mut holes: Vec<_> =
            self.0.iter().filter(|(of, ..)| *of == table).map(|(_, from, to)| (*from, *to)).collect();
        holes.sort_unstable();
        let (mut left, mut next) = (Vec::new(), Some(first));
        for (from, to) in holes {
            let Some(start) = next.filter(|start| *start <= last && to >= *start) else { continue };
            if from > start {
                left.push((start, last.min(from - 1)));
            }
            next = to.checked_add(1);
        }
        left.extend(next.filter(|start| *start <= last).map(|start| (start, last)));
        left
    }

    /// Whether a range of a table touches one.
    #[must_use]
    pub fn touch(&self, table: ModbusTable, first: u16, last: u16) -> bool {
        self.0.iter().any(|(of, from, to)| *of == table && *from <= last && first <= *to)
    }
}

impl FromStr for Holes {
    type Err = ParseHolesError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let hole = |part: &str| {
            let (table, range) = part.trim().split_once(':')?;
            let table = ModbusTable::from_word(table)?;
            let (first, last) = range.split_once('-').unwrap_or((range, range));
            let (first, last) = (decimal(first)?, decimal(last)?);
            (first <= last).then_some((table, first, last))
        };
        let parts = text.split(';').filter(|part| !part.trim().is_empty());
        let holes = parts.map(hole).collect::<Option<Vec<_>>>();
        holes.map(Self).ok_or_else(|| ParseHolesError(text.to_owned()))
    }
}

impl fmt::Display for Holes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, (table, first, last)) in self.0.iter().enumerate() {
            let separator = if at == 0 { "" } else { ";" };
            write!(f, "{separator}{}:{first}", table.word())?;
            if first != last {
                write!(f, "-{last}")?;
            }
        }
        Ok(())
    }
}

fn default_max_registers() -> u16 {
    125
}

fn default_max_bits() -> u16 {
    2000
}

fn default_retries() -> u8 {
    1
}
