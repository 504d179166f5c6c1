//! The points of a Modbus unit: their columns, and what is wrong with them.

use super::address::ModbusAddress;
use super::device::ModbusDevice;
use crate::description::problem::Fault;
use crate::description::settings::is_false;
use crate::description::{Access, Address, Point, PointProtocol, PointSettings};
use crate::{ByteOrder, DataType};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The columns that only points of Modbus units have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusPoint {
    /// In which order the bytes stand in the registers.
    #[serde(default)]
    pub order: ByteOrder,
    /// Whether the scale is multiplied with the ratio of the device.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false, "x-behind" = "offset"))]
    pub by_ratio: bool,
}

/// Understands a row of a list as a point of a unit; what is wrong with it is added to the faults.
pub(in crate::description) fn point(
    settings: &PointSettings,
    own: ModbusPoint,
    device: &ModbusDevice,
    faults: &mut Vec<Fault>,
) -> Option<Point> {
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
    place(settings, address, device, faults);
    let is_number = settings.data_type.is_numeric() && settings.data_type != DataType::Bool && !address.is_bit();
    if own.by_ratio && (!is_number || settings.span.is_some() || settings.enumeration.is_some()) {
        let message = "a ratio multiplies the scale of a number";
        faults.push(Fault::new("by-ratio", message, "a numeric type without a span"));
    }
    let factor = if own.by_ratio { device.ratio } else { 1.0 };
    Some(Point {
        shaping: settings.shaping(factor).into(),
        settings: PointSettings { address: listed.to_string().into(), ..settings.clone() },
        protocol: PointProtocol::Modbus(own).into(),
        address: Address::Modbus(address),
    })
}

/// What a place in a unit does not take.
fn place(settings: &PointSettings, address: ModbusAddress, device: &ModbusDevice, faults: &mut Vec<Fault>) {
    let (fits, expected) = match (address.is_bit(), address.bits, settings.data_type) {
        (true, _, data_type) => (matches!(data_type, DataType::Bool | DataType::Auto), "bool, or nothing"),
        (false, Some(_), data_type) => (data_type == DataType::Uint16, "uint16"),
        (false, None, data_type) => (data_type.registers().is_some(), "a type; Modbus registers do not say their own"),
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
    if !address.table.is_bits()
        && let Some(count) = settings.data_type.registers().filter(|count| *count > device.max_registers)
    {
        let message =
            format!("{} takes {count} registers, and max-registers is {}", settings.data_type, device.max_registers);
        faults.push(Fault::new("type", message, "a shorter type, or more max-registers"));
    }
    if settings.access != Access::Read && !address.table.is_writable() {
        let message = format!("{address} cannot be written");
        faults.push(Fault::new("access", message, "read, or an address in coil: or holding:"));
    }
}

/// Finds points of one device that read the same registers as different things.
///
/// The same address twice with the same type is a second view of it and allowed; so are bits of a register.
pub(in crate::description) fn clashes(points: &[Arc<Point>]) -> Vec<(usize, Fault)> {
    let mut extents: Vec<_> = points
        .iter()
        .enumerate()
        .filter_map(|(at, point)| {
            let (address, own) = point.modbus()?;
            if address.table.is_bits() || address.bits.is_some() {
                return None;
            }
            let data_type = point.settings.data_type;
            let (first, last) = address.extent(data_type)?;
            Some((address.table, first, last, data_type, own.order, at))
        })
        .collect();
    extents.sort_by_key(|(table, first, last, .., at)| (*table, *first, *last, *at));
    let mut faults = Vec::new();
    for (position, (table, _, last, data_type, order, before)) in extents.iter().enumerate() {
        let overlapping = extents.iter().skip(position + 1).take_while(|(t, f, ..)| t == table && f <= last);
        for (_, _, _, other_type, other_order, at) in overlapping {
            let same_place = points.get(*at).map(|p| &p.address) == points.get(*before).map(|p| &p.address);
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
                faults.push((*at, Fault::warning("address", message, "one type and order for each register")));
            }
        }
    }
    faults
}
