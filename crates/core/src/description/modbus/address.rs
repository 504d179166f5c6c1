use crate::DataType;
use std::fmt;
use std::str::FromStr;

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

    /// Whether it is one bit: of a table of bits, or of a register.
    #[must_use]
    pub fn is_bit(&self) -> bool {
        self.table.is_bits() || self.bits.is_some_and(|(first, last)| first == last)
    }

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

pub(super) fn decimal(text: &str) -> Option<u16> {
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
