//! The settings that only Modbus has.

use super::Span;
use crate::DataType;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// A TCP connection to a Modbus server or to a gateway with several units behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusTcpLink {
    /// Host name or IP address of the device.
    #[schemars(length(min = 1))]
    pub host: String,
    /// TCP port. 502 is the port registered for Modbus.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1))]
    pub port: u16,
    /// How long an answer may take. Too short turns a slow device bad; too long holds up its neighbours.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long the connection may take to come up.
    #[serde(default = "default_connect_timeout")]
    #[schemars(extend("x-advanced" = true))]
    pub connect_timeout: Span,
    /// The longest wait between two attempts to connect; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
    /// How long to wait between an answer and the next request. Some devices lose requests that follow at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub pause: Option<Span>,
    /// Baud rate of the serial line, when the address is that of a converter with RTU devices behind it: the
    /// checks then tell whether the line carries what is asked of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 300, max = 1_000_000), extend("x-advanced" = true, "x-unit" = "bit/s"))]
    pub serial_baud: Option<u32>,
    /// How long after a timeout an answer may still come over modbus-rtu-tcp and modbus-ascii-tcp; five timeouts where it
    /// is left out. So long nothing is asked that it could be taken for: no request of the same function to the same unit. Too short lets an answer that is later
    /// still become the value of another point; too long leaves these points alone after each lost frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub late_limit: Option<Span>,
    /// How many requests may wait for their answers at the same time. Many devices take one, and lose the rest.
    #[serde(default = "default_in_flight", skip_serializing_if = "is_one")]
    #[schemars(range(min = 1, max = 32), extend("x-advanced" = true, "default" = 1))]
    pub in_flight: u8,
}

fn default_in_flight() -> u8 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_one(count: &u8) -> bool {
    *count == 1
}

/// A serial port of the gateway with one or more Modbus units behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusSerialLink {
    /// Path of the serial port, such as /dev/ttyUSB0. Paths under /dev/serial/by-id stay the same when other ports come
    /// and go.
    #[schemars(length(min = 1), extend("format" = "device-path"))]
    pub device_path: String,
    /// Speed of the line, the same for all its units.
    #[serde(default = "default_baud")]
    #[schemars(range(min = 300, max = 1_000_000), extend("x-unit" = "bit/s"))]
    pub baud: u32,
    /// Parity bit, the same for all units. The standard asks for even.
    #[serde(default)]
    pub parity: SerialParity,
    /// Stop bits: 1, or 2 where there is no parity. Left out, it is the one that the standard asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 2), extend("x-advanced" = true))]
    pub stop_bits: Option<u8>,
    /// Data bits: 8, or 7 for ASCII.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 7, max = 8), extend("x-advanced" = true))]
    pub data_bits: Option<u8>,
    /// Whether the kernel switches the direction of an RS-485 transceiver. Most converters do so themselves.
    #[serde(default, skip_serializing_if = "is_off")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub rs485_direction: bool,
    /// How long an answer may take. Too short turns a slow device bad; too long holds up its neighbours.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long after a timeout an answer may still come; five timeouts where it is left out. So long nothing is asked that
    /// it could be taken for: no request of the same function to the same unit. Too short lets an answer that is later
    /// still become the value of another point; too long leaves these points alone after each lost frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub late_limit: Option<Span>,
    /// How long to wait between an answer and the next request, beside the silence that the standard asks for. Some
    /// devices lose requests that follow at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub pause: Option<Span>,
    /// How long all units are given to carry out what was sent to unit 0.
    #[serde(default = "default_turnaround")]
    #[schemars(extend("x-advanced" = true))]
    pub turnaround: Span,
    /// The longest wait between two attempts to open the port; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
}

/// The parity bit of a serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SerialParity {
    /// The default of the standard.
    #[default]
    Even,
    /// Odd.
    Odd,
    /// No parity bit, and two stop bits in its place.
    None,
}

impl ModbusSerialLink {
    /// Stop bits, by the standard where they are not set.
    ///
    /// Source: MODBUS over Serial Line V1.02, section 2.5.1: without parity, two stop bits.
    #[must_use]
    pub fn stop_bits(&self) -> u8 {
        self.stop_bits.unwrap_or(if self.parity == SerialParity::None { 2 } else { 1 })
    }
}

fn default_baud() -> u32 {
    19_200
}

fn default_turnaround() -> Span {
    Span::from_millis(100)
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_off(bit: &bool) -> bool {
    !*bit
}

fn default_port() -> u16 {
    502
}

fn default_timeout() -> Span {
    Span::from_millis(1000)
}

fn default_connect_timeout() -> Span {
    Span::from_millis(3000)
}

fn default_reconnect_limit() -> Span {
    Span::from_millis(30_000)
}

/// One Modbus unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusDevice {
    /// Unit identifier, 0 to 255. Devices with their own IP address mostly take 1, 0 or 255.
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

/// The four tables of the Modbus data model.
///
/// Source: MODBUS Application Protocol V1.1b3, section 4.3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ModbusTable {
    /// Bits that can be written.
    Coil,
    /// Bits that can only be read.
    Discrete,
    /// 16-bit registers that can only be read.
    Input,
    /// 16-bit registers that can be written.
    Holding,
}

impl ModbusTable {
    /// Whether it holds bits and not registers.
    #[must_use]
    pub const fn is_bits(self) -> bool {
        matches!(self, Self::Coil | Self::Discrete)
    }

    /// Whether clients may write to it.
    #[must_use]
    pub const fn is_writable(self) -> bool {
        matches!(self, Self::Coil | Self::Holding)
    }

    /// The table of a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Coil, Self::Discrete, Self::Input, Self::Holding].into_iter().find(|table| table.word() == word)
    }

    /// The word in addresses.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Coil => "coil",
            Self::Discrete => "discrete",
            Self::Input => "input",
            Self::Holding => "holding",
        }
    }
}

/// Where a point lives in a Modbus unit: `holding:100`, `coil:3`, `input:12.0`, `holding:100.4-7`.
///
/// The number is the zero-based protocol address. Reference numbers of five or six digits (`40101`, `400101`)
/// are read too, also with bits (`40101.3`), and so are hexadecimal numbers (`holding:0x64`); they are written back in the form
/// above.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ModbusAddress {
    /// Which of the four tables.
    pub table: ModbusTable,
    /// The zero-based protocol address.
    pub number: u16,
    /// First and last bit inside the register, 0 to 15, when only a part of it is meant.
    pub bits: Option<(u8, u8)>,
}

/// A text that is no [`ModbusAddress`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a Modbus address")]
pub struct ParseModbusAddressError(String);

impl ModbusAddress {
    /// What a file should say, for messages.
    pub const FORM: &str = "coil:N, discrete:N, input:N or holding:N with N from 0 to 65535, a bit of a register \
                            as holding:N.B or holding:N.B-C, or a reference number such as 40101; N may be hexadecimal, \
                            as 0x1F4";

    /// The addresses that a value of this type takes, first and last; `None` when it runs past 65535 or the type
    /// does not fit the address.
    #[must_use]
    pub fn extent(&self, data_type: DataType) -> Option<(u16, u16)> {
        let count = if self.table.is_bits() || self.bits.is_some() { 1 } else { data_type.registers()? };
        Some((self.number, self.number.checked_add(count - 1)?))
    }
}

impl FromStr for ModbusAddress {
    type Err = ParseModbusAddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        parse(text).ok_or_else(|| ParseModbusAddressError(text.to_owned()))
    }
}

fn parse(text: &str) -> Option<ModbusAddress> {
    let (place, bits) = text.split_once('.').map_or((text, None), |(place, bits)| (place, Some(bits)));
    let (table, number) = match place.split_once(':') {
        Some((table, number)) => (ModbusTable::from_word(table)?, address_number(number)?),
        None => reference_number(place)?,
    };
    let bits = match bits {
        None => None,
        Some(_) if table.is_bits() => return None,
        Some(bits) => Some(bit_range(bits)?),
    };
    Some(ModbusAddress { table, number, bits })
}

fn bit_range(bits: &str) -> Option<(u8, u8)> {
    let (first, last) = bits.split_once('-').unwrap_or((bits, bits));
    let (first, last) = (decimal(first)?, decimal(last)?);
    let is_range = first <= last && last <= 15;
    is_range.then_some((u8::try_from(first).ok()?, u8::try_from(last).ok()?))
}

/// Decimal, or hexadecimal with `0x` before it, as many manuals have it.
fn address_number(text: &str) -> Option<u16> {
    match text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        Some(digits) if digits.bytes().all(|byte| byte.is_ascii_hexdigit()) => u16::from_str_radix(digits, 16).ok(),
        Some(_) => None,
        None => decimal(text),
    }
}

/// `40101` is holding register 100: the first digit names the table, the rest counts from one.
fn reference_number(text: &str) -> Option<(ModbusTable, u16)> {
    if !matches!(text.len(), 5 | 6) || !text.is_ascii() {
        return None;
    }
    let (digit, rest) = text.split_at(1);
    let table = match digit {
        "0" => ModbusTable::Coil,
        "1" => ModbusTable::Discrete,
        "3" => ModbusTable::Input,
        "4" => ModbusTable::Holding,
        _ => return None,
    };
    if !rest.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let number = rest.parse::<u32>().ok()?.checked_sub(1)?;
    Some((table, u16::try_from(number).ok()?))
}

fn decimal(text: &str) -> Option<u16> {
    let plain = text.bytes().all(|byte| byte.is_ascii_digit()) && (text == "0" || !text.starts_with('0'));
    if plain { text.parse().ok() } else { None }
}

impl fmt::Display for ModbusAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.table.word(), self.number)?;
        match self.bits {
            None => Ok(()),
            Some((first, last)) if first == last => write!(f, ".{first}"),
            Some((first, last)) => write!(f, ".{first}-{last}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_read_back_from_their_own_text() {
        for text in ["coil:0", "discrete:65535", "input:12.0", "holding:100", "holding:100.4-7"] {
            assert_eq!(text.parse::<ModbusAddress>().unwrap().to_string(), text);
        }
    }

    #[test]
    fn reference_numbers_count_from_one() {
        for (reference, written) in [
            ("40101", "holding:100"),
            ("400101", "holding:100"),
            ("465536", "holding:65535"),
            ("30001", "input:0"),
            ("10017", "discrete:16"),
            ("00001", "coil:0"),
            ("40130.3", "holding:129.3"),
            ("300001.4-7", "input:0.4-7"),
            ("holding:0x64", "holding:100"),
            ("input:0XfF.0", "input:255.0"),
        ] {
            assert_eq!(reference.parse::<ModbusAddress>().unwrap().to_string(), written);
        }
    }

    #[test]
    fn what_is_no_address_is_refused() {
        for text in [
            "",
            "100",
            "40000",
            "400000",
            "465537",
            "20001",
            "holding:",
            "holding:65536",
            "holding:-1",
            "holding:1.16",
            "holding:1.7-4",
            "coil:1.0",
            "Holding:1",
            "holding: 1",
            "holding:007",
            "4+101",
            "10017.1",
            "40130.16",
            "holding:0x",
            "holding:0x10000",
            "holding:0x+1",
            "holding:x10",
        ] {
            assert!(text.parse::<ModbusAddress>().is_err(), "{text}");
        }
    }

    #[test]
    fn extents_end_inside_the_address_space() {
        let extent = |address: &str, data_type| address.parse::<ModbusAddress>().unwrap().extent(data_type);
        assert_eq!(extent("holding:10", DataType::Float64), Some((10, 13)));
        assert_eq!(extent("coil:10", DataType::Auto), Some((10, 10)));
        assert_eq!(extent("input:65535", DataType::Uint32), None);
    }
}
