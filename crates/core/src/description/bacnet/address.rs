use crate::DataType;
use interlex_bacnet_names::{OBJECT_TYPES, PROPERTIES};
use std::fmt;
use std::str::FromStr;

/// Where a point lives in a BACnet device: an object by its type and instance, a property of it, and an element of that:
/// `analog-input:3`, `analog-value:12.relinquish-default`, `device:4001.object-list[5]`.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetObjectIdentifier, BACnetPropertyIdentifier).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BacnetAddress {
    /// The number of the type of the object, 0 to 1023.
    pub object_type: u16,
    /// Its instance among those, 0 to 4194302.
    pub instance: u32,
    /// The number of the property.
    pub property: u32,
    /// The element of an array, from 1; 0 is how many there are.
    pub index: Option<u32>,
}

/// A text that is no [`BacnetAddress`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no BACnet address")]
pub struct ParseBacnetAddressError(String);

/// The property that is meant when none is named.
const PRESENT_VALUE: u32 = 85;
const OUT_OF_SERVICE: u32 = 81;
/// All of 22 bits are the instance that nobody has.
const MOST_INSTANCE: u32 = 0x003F_FFFE;
const MOST_PROPERTY: u32 = 0x003F_FFFF;

impl BacnetAddress {
    /// What a file should say, for messages.
    pub const FORM: &str = "TYPE:INSTANCE, TYPE:INSTANCE.PROPERTY or TYPE:INSTANCE.PROPERTY[INDEX] in the standard's words, such as \
                            analog-input:3, analog-value:12.relinquish-default or device:4001.object-list[5]; what a maker added, \
                            by number";

    /// Whether it is the value that an object stands for.
    #[must_use]
    pub const fn is_present_value(self) -> bool {
        self.property == PRESENT_VALUE
    }

    /// Whether its object has two states.
    #[must_use]
    pub const fn is_binary(self) -> bool {
        matches!(self.object_type, 3..=5) && self.is_present_value()
    }

    /// Whether its object has several numbered states, from 1.
    #[must_use]
    pub const fn is_multi_state(self) -> bool {
        matches!(self.object_type, 13 | 14 | 19) && self.is_present_value()
    }

    /// The type of its values, where the standard says one; else the device tells it as it is read.
    #[must_use]
    pub const fn data_type(self) -> Option<DataType> {
        // Elements of priority arrays are what the present value is, or nothing.
        if self.index.is_some() && self.index_is_other() {
            return None;
        }
        let of_object = match self.object_type {
            // Analog inputs, outputs and values, loops, lighting outputs.
            0..=2 | 12 | 54 => Some(DataType::Float32),
            3..=5 => Some(DataType::Bool),
            // Multi-state inputs, outputs and values, accumulators, positive integers.
            13 | 14 | 19 | 23 | 48 => Some(DataType::Uint32),
            24 => Some(DataType::Float32),
            45 => Some(DataType::Int32),
            46 => Some(DataType::Float64),
            40 => Some(DataType::String(250)),
            47 => Some(DataType::Bytes),
            _ => None,
        };
        match self.property {
            PRESENT_VALUE => of_object,
            // What is told in the unit of the value: limits, deadband, increment, least and most, what holds when nobody commands.
            22 | 25 | 45 | 59 | 65 | 69 | 104 => of_object,
            OUT_OF_SERVICE => Some(DataType::Bool),
            // States, modes, units, counts: numbers from 0 on.
            11 | 36 | 72..=74 | 79 | 98 | 103 | 107 | 112 | 117 | 120 | 126 | 139 | 141 | 145 | 155 | 167 => {
                Some(DataType::Uint32)
            }
            // Names and descriptions, words for states, bits as text.
            4 | 12 | 28 | 31 | 44 | 46 | 58 | 70 | 77 | 111 | 121 => Some(DataType::String(250)),
            _ => None,
        }
    }

    const fn index_is_other(self) -> bool {
        self.property != 110
    }
}

impl FromStr for BacnetAddress {
    type Err = ParseBacnetAddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = || ParseBacnetAddressError(text.to_owned());
        let number = |text: &str| -> Option<u32> {
            let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
            text.parse().ok().filter(|_| is_number)
        };
        let (object_type, rest) = text.trim().split_once(':').ok_or_else(error)?;
        let object_type = OBJECT_TYPES.number(object_type.trim()).and_then(|number| u16::try_from(number).ok());
        let object_type = object_type.filter(|number| *number < 1024).ok_or_else(error)?;
        let (rest, index) = match rest.split_once('[') {
            None => (rest, None),
            Some((rest, index)) => (rest, Some(index.strip_suffix(']').and_then(number).ok_or_else(error)?)),
        };
        let (instance, property) = match rest.split_once('.') {
            None => (rest, PRESENT_VALUE),
            Some((instance, property)) => {
                let property = PROPERTIES.number(property.trim()).filter(|number| *number <= MOST_PROPERTY);
                (instance, property.ok_or_else(error)?)
            }
        };
        let instance = number(instance.trim()).filter(|number| *number <= MOST_INSTANCE).ok_or_else(error)?;
        Ok(Self { object_type, instance, property, index })
    }
}

impl fmt::Display for BacnetAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match OBJECT_TYPES.of(self.object_type.into()) {
            Some(name) => write!(f, "{name}:{}", self.instance)?,
            None => write!(f, "{}:{}", self.object_type, self.instance)?,
        }
        if !self.is_present_value() || self.index.is_some() {
            match PROPERTIES.of(self.property) {
                Some(name) => write!(f, ".{name}")?,
                None => write!(f, ".{}", self.property)?,
            }
        }
        self.index.map_or(Ok(()), |index| write!(f, "[{index}]"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_in_the_words_of_the_standard_and_written_so_again() {
        let again = |text: &str| text.parse::<BacnetAddress>().map_err(|_| ()).map(|address| address.to_string());
        for (text, canonical) in [
            ("analog-input:3", "analog-input:3"),
            (" analog-value:12.present-value ", "analog-value:12"),
            ("0:3.85", "analog-input:3"),
            ("200:7.5000", "200:7.5000"),
            ("device:4001.object-list[5]", "device:4001.object-list[5]"),
            ("analog-output:1.priority-array[8]", "analog-output:1.priority-array[8]"),
        ] {
            assert_eq!(again(text).as_deref(), Ok(canonical), "{text}");
        }
        for text in [
            "analog-input",
            "analog-input:",
            "analog-inptu:3",
            "analog-input:4194303",
            "analog-input:3.present-valeu",
            "analog-input:3.",
            "analog-input:3.units[x]",
            "analog-input:3.units[1",
            "analog-input:+3",
            "1024:3",
            "",
        ] {
            assert_eq!(again(text), Err(()), "{text}");
        }
    }
}
