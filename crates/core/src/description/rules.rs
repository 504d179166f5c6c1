//! What a schema cannot say: clashes, and what does not go together.

use super::modbus::ModbusAddress;
use super::problem::Fault;
use super::{Access, Address, DeviceProtocol, ModbusDevice, Point, PointSettings};
use crate::{DataType, Shaping, TwoEndedSpan};
use std::collections::HashMap;
use std::sync::Arc;

/// Finds names that stand twice, also when they differ by case alone.
///
/// Source: Sparkplug 3.0.0, tck-id-topic-structure-namespace-unique-device-id, tck-id-case-sensitivity-sparkplug-ids.
pub(super) fn duplicates<'a>(names: impl Iterator<Item = &'a str>) -> Vec<(usize, Fault)> {
    let mut seen = HashMap::new();
    let mut faults = Vec::new();
    for (at, name) in names.enumerate().filter(|(_, name)| !name.is_empty()) {
        if let Some(before) = seen.insert(name.to_lowercase(), name) {
            let how = if before == name { "" } else { " but for its case" };
            faults.push((at, Fault::new("name", format!("name {name:?} is taken{how}"), "a name of its own")));
        }
    }
    faults
}

/// Checks one point by itself and understands its address: the one in the list, and the one in the device.
pub(super) fn point(settings: &PointSettings, protocol: &DeviceProtocol) -> (Option<(Address, Address)>, Vec<Fault>) {
    let mut faults = Vec::new();
    let address = match protocol {
        DeviceProtocol::Modbus(device) => modbus_point(settings, device, &mut faults)
            .map(|(listed, address)| (Address::Modbus(listed), Address::Modbus(address))),
    };
    shaping(settings, address.as_ref().map(|(listed, _)| listed), &mut faults);
    if let (Some(low), Some(high)) = (settings.low, settings.high)
        && low >= high
    {
        faults.push(Fault::new("low", format!("low {low} is not below high {high}"), "low < high"));
    } else if let (Some(low), Some(high)) = (settings.low, settings.high)
        && settings.deadband >= high - low
    {
        let message = format!("a deadband of {} is never left between {low} and {high}", settings.deadband);
        faults.push(Fault::warning("deadband", message, "less than high - low"));
    }
    (address, faults)
}

/// Each way of shaping is for one kind of value, and goes together with no other.
fn shaping(settings: &PointSettings, address: Option<&Address>, faults: &mut Vec<Fault>) {
    let data_type = settings.data_type;
    let is_bit = data_type == DataType::Bool
        || matches!(address, Some(Address::Modbus(a)) if a.table.is_bits() || a.bits.is_some_and(|(low, high)| low == high));
    let is_number = data_type.is_numeric() && !is_bit;
    let is_linear = Shaping::linear(settings.scale, settings.offset).is_none();
    if !data_type.is_numeric() {
        if !is_linear || settings.deadband > 0.0 || settings.low.is_some() || settings.high.is_some() {
            let message = format!("{data_type} has no scale, offset, deadband or limits");
            faults.push(Fault::new("type", message, "empty cells there, or a numeric type"));
        }
    } else if settings.scale == 0.0 {
        faults.push(Fault::new("scale", "a scale of 0 makes every value the same", "a number that is not 0"));
    }
    if settings.by_ratio && (!is_number || settings.span.is_some() || settings.enumeration.is_some()) {
        faults.push(Fault::new(
            "by-ratio",
            "a ratio multiplies the scale of a number",
            "a numeric type without a span",
        ));
    }
    if settings.span.is_some() {
        if !is_number {
            faults.push(Fault::new("span", "a span is for numbers", "a numeric type"));
        }
        if !is_linear {
            faults.push(Fault::new("span", "a span stands in place of scale and offset", "one of the two"));
        }
    } else if settings.clamp || settings.root {
        let key = if settings.clamp { "clamp" } else { "root" };
        faults.push(Fault::new(key, format!("{key} needs the ends of a span"), TwoEndedSpan::FORM));
    }
    if settings.invert && !is_bit {
        faults.push(Fault::new("invert", "only a bit can be turned", "type bool, or an address of a bit"));
    }
    if settings.enumeration.is_some() {
        let is_whole = is_number && !matches!(data_type, DataType::Float32 | DataType::Float64);
        if !is_whole || !is_linear || settings.span.is_some() {
            let expected = "a whole-number type without scale, offset or span";
            faults.push(Fault::new("enumeration", "words are for whole numbers as the device says them", expected));
        }
        if settings.deadband > 0.0 || settings.low.is_some() || settings.high.is_some() {
            faults.push(Fault::new("enumeration", "words have no deadband or limits", "empty cells there"));
        }
    }
}

fn modbus_point(
    settings: &PointSettings,
    device: &ModbusDevice,
    faults: &mut Vec<Fault>,
) -> Option<(ModbusAddress, ModbusAddress)> {
    let Ok(listed) = settings.address.parse::<ModbusAddress>() else {
        let message = format!("address is {:?}", settings.address);
        faults.push(Fault::new("address", message, ModbusAddress::FORM));
        return None;
    };
    let Some(number) = listed.number.checked_add(device.base) else {
        let message = format!("{listed} with a base of {} is past address 65535", device.base);
        faults.push(Fault::new("address", message, "a lower address, or a lower base of the device"));
        return None;
    };
    let address = ModbusAddress { number, ..listed };
    let single_bit = address.table.is_bits() || address.bits.is_some_and(|(first, last)| first == last);
    let (fits, expected) = match (single_bit, address.bits, settings.data_type) {
        (true, _, data_type) => (matches!(data_type, DataType::Bool | DataType::Auto), "bool, or nothing"),
        (false, Some(_), data_type) => (data_type == DataType::Uint16, "uint16"),
        (false, None, data_type) => (data_type != DataType::Auto, "a type; Modbus registers do not say their own"),
    };
    if !fits {
        let message = format!("type {} does not fit {address}", settings.data_type);
        faults.push(Fault::new("type", message, expected));
    } else if address.extent(settings.data_type).is_none() {
        let message = format!("{} at {address} runs past address 65535", settings.data_type);
        faults.push(Fault::new("address", message, "a lower address"));
    } else if let Some((first, last)) = address.extent(settings.data_type)
        && device.holes.touch(address.table, first, last)
    {
        let message = format!("{address} is in a hole of the device: {}", device.holes);
        faults.push(Fault::new("address", message, "an address outside, or other holes"));
    }
    if settings.access == Access::ReadWrite && !address.table.is_writable() {
        let message = format!("{address} cannot be written");
        faults.push(Fault::new("access", message, "read, or an address in coil: or holding:"));
    }
    Some((listed, address))
}

/// Finds points of one device that read the same registers as different things.
///
/// The same address twice with the same type is a second view of it and allowed; so are bits of a register.
pub(super) fn clashes(points: &[Arc<Point>]) -> Vec<(usize, Fault)> {
    let mut extents: Vec<_> = points
        .iter()
        .enumerate()
        .filter_map(|(at, point)| {
            let (settings, Address::Modbus(address)) = (&point.settings, &point.address);
            if address.table.is_bits() || address.bits.is_some() {
                return None;
            }
            let (first, last) = address.extent(settings.data_type)?;
            Some((address.table, first, last, settings.data_type, settings.order, at))
        })
        .collect();
    extents.sort_by_key(|(table, first, last, .., at)| (*table, *first, *last, *at));
    let mut faults = Vec::new();
    for (position, (table, _, last, data_type, order, before)) in extents.iter().enumerate() {
        let overlapping = extents.iter().skip(position + 1).take_while(|(t, f, ..)| t == table && f <= last);
        for (_, _, _, other_type, other_order, at) in overlapping {
            let same_place = points.get(*at).map(|p| p.address) == points.get(*before).map(|p| p.address);
            if same_place && data_type == other_type && order == other_order {
                continue;
            }
            if let (Some(earlier), Some(later)) = (points.get(*before), points.get(*at)) {
                let message = format!(
                    "{} {} shares registers with point {:?}, {data_type} at {}",
                    later.settings.data_type,
                    later.settings.address,
                    earlier.settings.name.as_str(),
                    earlier.address,
                );
                faults.push((*at, Fault::new("address", message, "one type and order for each register")));
            }
        }
    }
    faults
}
