//! Whether a line carries what is asked of it.

use super::planned::{PlannedRequest, planned, units};
use crate::description::problem::Fault;
use crate::description::{Description, Link, ModbusLink};
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
/// Address, function, four bytes, CRC.
const REQUEST_CHARACTERS: f64 = 8.0;
/// Address, function, byte count, CRC.
const ANSWER_CHARACTERS: f64 = 5.0;

/// How busy a link is; `None` where nothing limits it that the description knows of.
#[must_use]
pub fn line_load(description: &Description, link: &Link) -> Option<LineLoad> {
    let own = link.protocol.modbus()?;
    let timing = own.timing();
    if timing.pause.is_none() && timing.baud.is_none() {
        return None;
    }
    let is_ascii = matches!(own, ModbusLink::Ascii(_) | ModbusLink::AsciiTcp(_));
    let pause = timing.pause.map_or(0.0, |pause| Duration::from(pause).as_secs_f64());
    let mut load = LineLoad { requests_per_second: 0.0, busy: 0.0 };
    let behind: Vec<_> =
        description.devices.iter().filter(|device| device.settings.link == link.settings.name).collect();
    let units = units(behind.iter().copied()).into_iter();
    let units = units.map(|(_, places)| places.iter().filter_map(|place| behind.get(*place).copied()).collect());
    for request in units.flat_map(|devices: Vec<_>| planned(&description.rates, &devices)) {
        let per_second = 1.0 / Duration::from(request.period).as_secs_f64();
        let on_line = timing.baud.map_or(0.0, |baud| transaction(baud, timing.bits_per_character, is_ascii, &request));
        load.requests_per_second += per_second;
        load.busy += per_second * (on_line + pause);
    }
    Some(load)
}

/// What is wrong with the load of a link.
pub(in crate::description) fn load_fault(description: &Description, link: &Link, own: &ModbusLink) -> Option<Fault> {
    let load = line_load(description, link).filter(|load| load.busy > CROWDED)?;
    let key = match own.timing().baud {
        Some(_) if own.is_serial() => "baud",
        Some(_) => "serial-baud",
        None => "pause",
    };
    let (percent, requests) = (load.busy * 100.0, load.requests_per_second);
    let message = format!("{requests:.1} requests a second keep the line busy {percent:.0} % of the time");
    let expected = "slower rates, fewer requests, or a faster line";
    let most = link.settings.most_load;
    Some(match percent > f64::from(most) {
        true => Fault::new(key, message, format!("{most} % at the most, or another most-load: {expected}")),
        false => {
            Fault::warning(key, message, format!("70 % at the most, so that a retry makes nothing late: {expected}"))
        }
    })
}

/// How long a read keeps an RTU line busy, in seconds: both frames, and the silence that ends each.
///
/// Source: MODBUS over Serial Line V1.02, section 2.5.1.1: 3.5 characters, 1.75 ms above 19,200 baud.
fn transaction(baud: u32, bits_per_character: u8, is_ascii: bool, request: &PlannedRequest) -> f64 {
    let character = f64::from(bits_per_character) / f64::from(baud);
    let count = request.block.range.end() - request.block.range.start() + 1;
    let data = if request.table.is_bits() { f64::from(count.div_ceil(8)) } else { f64::from(count) * 2.0 };
    let bytes = REQUEST_CHARACTERS + ANSWER_CHARACTERS + data;
    if is_ascii {
        // Two digits a byte, a colon and an end of line a frame, one byte of check in place of two (section 2.5.2).
        return ((bytes - 2.0) * 2.0 + 6.0) * character;
    }
    let silence = if baud > 19_200 { 0.001_75 } else { 3.5 * character };
    bytes * character + 2.0 * silence
}
