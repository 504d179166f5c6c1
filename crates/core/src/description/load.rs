//! Whether a line carries what is asked of it.

use super::problem::Fault;
use super::{Address, Description, Device, DeviceProtocol, Link, ModbusTable, Span};
use crate::plan::{PlanLimits, plan};
use std::collections::BTreeMap;
use std::time::Duration;

/// What the points behind a link ask of it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LineLoad {
    /// Requests a second.
    pub requests_per_second: f64,
    /// The share of its time that the line is busy: 1 is all of it.
    pub busy: f64,
}

/// Above this, a single retry makes polls late.
const CROWDED: f64 = 0.7;
/// A start bit, eight data bits, parity or a second stop bit, a stop bit.
///
/// Source: MODBUS over Serial Line V1.02, section 2.5.1.
const BITS_PER_CHARACTER: f64 = 11.0;
/// Address, function, four bytes, CRC.
const REQUEST_CHARACTERS: f64 = 8.0;
/// Address, function, byte count, CRC.
const ANSWER_CHARACTERS: f64 = 5.0;

/// How busy a link is; `None` where nothing limits it that the description knows of.
#[must_use]
pub fn line_load(description: &Description, link: &Link) -> Option<LineLoad> {
    let modbus = link.protocol.modbus();
    if modbus.pause.is_none() && modbus.serial_baud.is_none() {
        return None;
    }
    let pause = modbus.pause.map_or(0.0, |pause| Duration::from(pause).as_secs_f64());
    let mut load = LineLoad { requests_per_second: 0.0, busy: 0.0 };
    let behind = description.devices.iter().filter(|device| device.settings.link == link.settings.name);
    for (period, table, count) in behind.flat_map(|device| requests(description, device)) {
        let per_second = 1.0 / period.as_secs_f64();
        let on_line = modbus.serial_baud.map_or(0.0, |baud| transaction(baud, table, count));
        load.requests_per_second += per_second;
        load.busy += per_second * (on_line + pause);
    }
    Some(load)
}

/// What is wrong with the load of a link.
pub(super) fn fault(description: &Description, link: &Link) -> Option<Fault> {
    let load = line_load(description, link).filter(|load| load.busy > CROWDED)?;
    let modbus = link.protocol.modbus();
    let key = if modbus.serial_baud.is_some() { "serial-baud" } else { "pause" };
    let (percent, requests) = (load.busy * 100.0, load.requests_per_second);
    let message = format!("{requests:.1} requests a second keep the line busy {percent:.0} % of the time");
    let expected = "slower rates, fewer requests, or a faster line";
    Some(match load.busy > 1.0 {
        true => Fault::new(key, message, format!("100 % at the most: {expected}")),
        false => {
            Fault::warning(key, message, format!("70 % at the most, so that a retry makes nothing late: {expected}"))
        }
    })
}

/// The requests that read a device: period, table, and how many addresses.
fn requests(description: &Description, device: &Device) -> Vec<(Duration, ModbusTable, u16)> {
    let DeviceProtocol::Modbus(settings) = &device.protocol;
    let mut groups: BTreeMap<(Span, ModbusTable), Vec<_>> = BTreeMap::new();
    for point in &device.points {
        let Address::Modbus(address) = point.address;
        let extent = address.extent(point.settings.data_type);
        let rate = description.rates.get(&point.settings.rate);
        if let (Some((first, last)), Some(rate)) = (extent, rate) {
            groups.entry((*rate, address.table)).or_default().push((first, last, ()));
        }
    }
    let requests = groups.into_iter().flat_map(|((period, table), items)| {
        let max_addresses = if table.is_bits() { settings.max_bits } else { settings.max_registers };
        let blocks = plan(items, PlanLimits { max_addresses, max_gap: settings.max_gap });
        blocks.into_iter().map(move |block| (period.into(), table, block.range.end() - block.range.start() + 1))
    });
    requests.collect()
}

/// How long a read keeps an RTU line busy, in seconds: both frames, and the silence that ends each.
///
/// Source: MODBUS over Serial Line V1.02, section 2.5.1.1: 3.5 characters, 1.75 ms above 19,200 baud.
fn transaction(baud: u32, table: ModbusTable, count: u16) -> f64 {
    let character = BITS_PER_CHARACTER / f64::from(baud);
    let silence = if baud > 19_200 { 0.001_75 } else { 3.5 * character };
    let data = if table.is_bits() { f64::from(count.div_ceil(8)) } else { f64::from(count) * 2.0 };
    (REQUEST_CHARACTERS + ANSWER_CHARACTERS + data) * character + 2.0 * silence
}
