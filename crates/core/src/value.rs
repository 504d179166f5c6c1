use crate::array_type::ArrayType;
use crate::message::milliseconds_of;
use serde::{Serialize, Serializer};
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// One value, as read from a device or after shaping.
///
/// Single precision is kept as such, so that `49.98` from a 32-bit register pair is shown as `49.98`.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A bit, coil or discrete input.
    Bool(bool),
    /// A signed integer of any width.
    Int(i64),
    /// An unsigned integer of any width.
    Uint(u64),
    /// IEEE 754 single precision.
    Float32(f32),
    /// IEEE 754 double precision; every scaled value is one.
    Float64(f64),
    /// Text, and what is carried as such: moments, UUIDs, bytes and arrays. Shared, so that a copy of a sample copies no characters.
    Text(Arc<str>),
}

impl Value {
    /// The value as a double, or `None` for text. Bits count as 0 and 1.
    ///
    /// Integers beyond 2^53 are rounded to the nearest double.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "documented: rounded to the nearest double")]
    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Self::Bool(bit) => Some(f64::from(u8::from(*bit))),
            Self::Int(int) => Some(*int as f64),
            Self::Uint(uint) => Some(*uint as f64),
            Self::Float32(float) => Some(f64::from(*float)),
            Self::Float64(float) => Some(*float),
            Self::Text(_) => None,
        }
    }

    /// What a person or a file means by some words: true or false, a number, or else the text itself.
    #[must_use]
    pub fn from_words(text: &str) -> Self {
        let whole = || text.parse().map(Self::Uint).ok().or_else(|| text.parse().map(Self::Int).ok());
        let number = || text.parse().ok().filter(|number: &f64| number.is_finite()).map(Self::Float64);
        let bit = text.parse().map(Self::Bool).ok();
        bit.or_else(whole).or_else(number).unwrap_or_else(|| Self::Text(text.into()))
    }

    /// Whether it is of a type, so that it can be told as one: not whether it is in its range.
    #[must_use]
    pub const fn is_of(&self, data_type: DataType) -> bool {
        match self {
            Self::Bool(_) => matches!(data_type, DataType::Bool),
            Self::Int(_) => {
                matches!(data_type, DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64)
            }
            Self::Uint(_) => matches!(
                data_type,
                DataType::Uint8
                    | DataType::Uint16
                    | DataType::Uint32
                    | DataType::Uint64
                    | DataType::Bcd16
                    | DataType::Bcd32
                    | DataType::Bcd64
            ),
            Self::Float32(_) => matches!(data_type, DataType::Float16 | DataType::Float32),
            Self::Float64(_) => matches!(data_type, DataType::Float64),
            Self::Text(_) => data_type.is_text(),
        }
    }

    /// The same value as one of a type; `None` where it is none of it, or something would be lost.
    #[must_use]
    pub fn into_type(self, data_type: DataType) -> Option<Self> {
        let whole = match &self {
            Self::Int(number) => i128::from(*number),
            Self::Uint(number) => i128::from(*number),
            Self::Bool(_) => return matches!(data_type, DataType::Bool).then_some(self),
            Self::Text(text) => return data_type.takes_text(text).then_some(self),
            Self::Float32(float) => {
                return match data_type {
                    DataType::Float16 | DataType::Float32 => Some(self),
                    DataType::Float64 | DataType::Auto => Some(Self::Float64(f64::from(*float))),
                    _ => None,
                };
            }
            Self::Float64(_) => return matches!(data_type, DataType::Float64 | DataType::Auto).then_some(self),
        };
        let signed = |bits: u32| -(1_i128 << (bits - 1))..1 << (bits - 1);
        let unsigned = |bits: u32| 0..1_i128 << bits;
        let range = match data_type {
            DataType::Int8 => signed(8),
            DataType::Int16 => signed(16),
            DataType::Int32 => signed(32),
            DataType::Int64 => signed(64),
            DataType::Uint8 => unsigned(8),
            DataType::Uint16 => unsigned(16),
            DataType::Uint32 => unsigned(32),
            DataType::Uint64 => unsigned(64),
            DataType::Bcd16 => 0..10_000,
            DataType::Bcd32 => 0..100_000_000,
            DataType::Bcd64 => 0..10_000_000_000_000_000,
            // A double holds these without a loss.
            DataType::Float64 => -(1 << 53)..(1 << 53) + 1,
            DataType::Auto => return Some(self),
            _ => return None,
        };
        if !range.contains(&whole) {
            return None;
        }
        match data_type {
            DataType::Float64 => self.as_f64().map(Self::Float64),
            DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => {
                i64::try_from(whole).ok().map(Self::Int)
            }
            _ => u64::try_from(whole).ok().map(Self::Uint),
        }
    }

    /// Whether this is a NaN or an infinity, which no meter means to say.
    #[must_use]
    pub fn is_not_finite(&self) -> bool {
        match self {
            Self::Float32(float) => !float.is_finite(),
            Self::Float64(float) => !float.is_finite(),
            _ => false,
        }
    }

    /// Whether this is a NaN.
    #[must_use]
    pub fn is_nan(&self) -> bool {
        match self {
            Self::Float32(float) => float.is_nan(),
            Self::Float64(float) => float.is_nan(),
            _ => false,
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Bool(bit) => write!(f, "{bit}"),
            Self::Int(int) => write!(f, "{int}"),
            Self::Uint(uint) => write!(f, "{uint}"),
            // As many digits as there are, and no hundreds of zeros.
            Self::Float32(float) if is_unwieldy(f64::from(*float)) => write!(f, "{float:e}"),
            Self::Float32(float) => write!(f, "{float}"),
            Self::Float64(float) if is_unwieldy(*float) => write!(f, "{float:e}"),
            Self::Float64(float) => write!(f, "{float}"),
            Self::Text(text) => f.write_str(text),
        }
    }
}

fn is_unwieldy(number: f64) -> bool {
    number != 0.0 && number.is_finite() && !(1e-6..1e16).contains(&number.abs())
}

/// JSON's own types; NaN and infinities, which JSON cannot write, become `null`.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Bool(bit) => serializer.serialize_bool(*bit),
            Self::Int(int) => serializer.serialize_i64(*int),
            Self::Uint(uint) => serializer.serialize_u64(*uint),
            Self::Float32(float) => serializer.serialize_f32(*float),
            Self::Float64(float) => serializer.serialize_f64(*float),
            Self::Text(text) => serializer.serialize_str(text),
        }
    }
}

/// How a device represents a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum DataType {
    /// The protocol names the type itself.
    #[default]
    Auto,
    /// One bit.
    Bool,
    /// Signed, 8 bits: the less significant byte of a register.
    Int8,
    /// Unsigned, 8 bits: the less significant byte of a register.
    Uint8,
    /// Signed, 16 bits.
    Int16,
    /// Unsigned, 16 bits.
    Uint16,
    /// Signed, 32 bits.
    Int32,
    /// Unsigned, 32 bits.
    Uint32,
    /// Signed, 64 bits.
    Int64,
    /// Unsigned, 64 bits.
    Uint64,
    /// Packed BCD, four decimal digits in 16 bits.
    Bcd16,
    /// Packed BCD, eight decimal digits in 32 bits.
    Bcd32,
    /// Packed BCD, sixteen decimal digits in 64 bits.
    Bcd64,
    /// IEEE 754 half precision.
    Float16,
    /// IEEE 754 single precision.
    Float32,
    /// IEEE 754 double precision.
    Float64,
    /// Text of at most this many bytes in UTF-8, 1 to 250 (the most that one Modbus read returns).
    String(u16),
    /// Text of at most this many bytes in ISO 8859-1, 1 to 250.
    Latin1(u16),
    /// A moment, as ISO 8601 text.
    DateTime,
    /// A UUID, as its text with hyphens.
    Uuid,
    /// Bytes, as hexadecimal text.
    Bytes,
    /// Several values of one type.
    Array(ArrayType),
}

impl DataType {
    /// How many 16-bit registers one value takes; `None` where the protocol decides.
    #[must_use]
    pub const fn registers(self) -> Option<u16> {
        match self {
            Self::Auto | Self::DateTime | Self::Uuid | Self::Bytes | Self::Array(_) => None,
            Self::Bool | Self::Int8 | Self::Uint8 | Self::Int16 | Self::Uint16 | Self::Bcd16 | Self::Float16 => Some(1),
            Self::Int32 | Self::Uint32 | Self::Bcd32 | Self::Float32 => Some(2),
            Self::Int64 | Self::Uint64 | Self::Bcd64 | Self::Float64 => Some(4),
            Self::String(bytes) | Self::Latin1(bytes) => Some(bytes.div_ceil(2)),
        }
    }

    /// Whether scale, offset, deadband and limits make sense for it.
    #[must_use]
    pub const fn is_numeric(self) -> bool {
        !matches!(self, Self::Bool) && !self.is_text()
    }

    /// Whether its values are text, or carried as such.
    #[must_use]
    pub const fn is_text(self) -> bool {
        matches!(self, Self::String(_) | Self::Latin1(_) | Self::DateTime | Self::Uuid | Self::Bytes | Self::Array(_))
    }

    /// Whether a text is a value of it.
    #[must_use]
    pub fn takes_text(self, text: &str) -> bool {
        let is_hexadecimal = |text: &str| text.bytes().all(|byte| byte.is_ascii_hexdigit());
        match self {
            Self::String(_) | Self::Latin1(_) => true,
            Self::DateTime => milliseconds_of(text).is_some(),
            Self::Uuid => {
                let groups: Vec<_> = text.split('-').collect();
                groups.iter().map(|group| group.len()).eq([8, 4, 4, 4, 12])
                    && groups.iter().all(|group| is_hexadecimal(group))
            }
            Self::Bytes => text.len().is_multiple_of(2) && is_hexadecimal(text),
            Self::Array(array) => array.takes(text),
            _ => false,
        }
    }

    /// Whether its values have a point.
    #[must_use]
    pub const fn is_float(self) -> bool {
        matches!(self, Self::Float16 | Self::Float32 | Self::Float64)
    }
}

/// A text that names no [`DataType`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a data type")]
pub struct ParseDataTypeError(String);

impl FromStr for DataType {
    type Err = ParseDataTypeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let sized = |text: &str| {
            let (word, bytes) = text.strip_suffix(')')?.split_once('(')?;
            let bytes: u16 = bytes.parse().ok().filter(|bytes| (1..=250).contains(bytes))?;
            match word {
                "string" => Some(Self::String(bytes)),
                "latin1" => Some(Self::Latin1(bytes)),
                _ => None,
            }
        };
        Ok(match text {
            "auto" => Self::Auto,
            "bool" => Self::Bool,
            "int8" => Self::Int8,
            "uint8" => Self::Uint8,
            "int16" => Self::Int16,
            "uint16" => Self::Uint16,
            "int32" => Self::Int32,
            "uint32" => Self::Uint32,
            "int64" => Self::Int64,
            "uint64" => Self::Uint64,
            "bcd16" => Self::Bcd16,
            "bcd32" => Self::Bcd32,
            "bcd64" => Self::Bcd64,
            "float16" => Self::Float16,
            "float32" => Self::Float32,
            "float64" => Self::Float64,
            "datetime" => Self::DateTime,
            "uuid" => Self::Uuid,
            "bytes" => Self::Bytes,
            other => {
                let array = || other.parse().ok().map(Self::Array);
                return sized(other).or_else(array).ok_or_else(|| ParseDataTypeError(other.to_owned()));
            }
        })
    }
}

impl fmt::Display for DataType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Auto => "auto",
            Self::Bool => "bool",
            Self::Int8 => "int8",
            Self::Uint8 => "uint8",
            Self::Int16 => "int16",
            Self::Uint16 => "uint16",
            Self::Int32 => "int32",
            Self::Uint32 => "uint32",
            Self::Int64 => "int64",
            Self::Uint64 => "uint64",
            Self::Bcd16 => "bcd16",
            Self::Bcd32 => "bcd32",
            Self::Bcd64 => "bcd64",
            Self::Float16 => "float16",
            Self::Float32 => "float32",
            Self::Float64 => "float64",
            Self::String(bytes) => return write!(f, "string({bytes})"),
            Self::Latin1(bytes) => return write!(f, "latin1({bytes})"),
            Self::DateTime => "datetime",
            Self::Uuid => "uuid",
            Self::Bytes => "bytes",
            Self::Array(array) => return array.fmt(f),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_becomes_one_of_another_type_where_nothing_is_lost() {
        let told = |value: Value, data_type: &str| {
            value.into_type(data_type.parse().unwrap()).map(|value| format!("{value:?}"))
        };
        assert_eq!(told(Value::Uint(40_000), "int32").as_deref(), Some("Int(40000)"));
        assert_eq!(told(Value::Uint(40_000), "int16"), None);
        assert_eq!(told(Value::Int(-1), "uint64"), None);
        assert_eq!(told(Value::Int(-3), "float64").as_deref(), Some("Float64(-3.0)"));
        assert_eq!(told(Value::Uint(1 << 54), "float64"), None);
        assert_eq!(told(Value::Float32(0.5), "float64").as_deref(), Some("Float64(0.5)"));
        assert_eq!((told(Value::Float64(0.5), "float32"), told(Value::Bool(true), "uint16")), (None, None));
        assert_eq!(told(Value::Text("on".into()), "string(4)").as_deref(), Some("Text(\"on\")"));
        let takes = |text: &str, data_type: &str| told(Value::Text(text.into()), data_type).is_some();
        for (text, data_type) in [
            ("2026-11-28T12:00:00.000Z", "datetime"),
            ("72962b91-fa75-4ae6-8d28-b404dc7daf63", "uuid"),
            ("", "bytes"),
            ("00ff", "bytes"),
            ("[1,-2]", "int32[]"),
            ("[1.5,null]", "float64[]"),
            ("[\"a\",null]", "string[]"),
            ("[true]", "bool[]"),
            ("[\"1601-01-01T00:00:00.000Z\"]", "datetime[]"),
        ] {
            assert!(takes(text, data_type), "{text} {data_type}");
        }
        for (text, data_type) in [
            ("on", "datetime"),
            ("72962b91", "uuid"),
            ("0ff", "bytes"),
            ("xx", "bytes"),
            ("[1.5]", "int32[]"),
            ("[1", "int32[]"),
            ("1", "int32[]"),
        ] {
            assert!(!takes(text, data_type), "{text} {data_type}");
        }
    }

    #[test]
    fn every_data_type_reads_back_from_its_own_text() {
        let all = "auto bool int8 uint8 int16 uint16 int32 uint32 int64 uint64 bcd16 bcd32 bcd64 float16 float32 float64 \
                   string(1) string(250) latin1(7) datetime uuid bytes bool[] float64[] string[] datetime[] int32[2,3] uint8[1,2,65535]";
        for text in all.split(' ') {
            assert_eq!(text.parse::<DataType>().unwrap().to_string(), text);
        }
        for wrong in [
            "",
            "Int16",
            "string",
            "string(0)",
            "string(251)",
            "string(-1)",
            "uint 16",
            "int32[",
            "int32[3]",
            "int32[1,2,3,4]",
            "int32[0,2]",
            "uuid[]",
        ] {
            assert!(wrong.parse::<DataType>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn single_precision_is_written_as_short_as_the_meter_shows_it() {
        assert_eq!(Value::Float32(49.98).to_string(), "49.98");
        assert_eq!(Value::Float64(2.5e300).to_string(), "2.5e300");
        assert_eq!(
            [Value::Float64(0.0), Value::Float64(1e15)].map(|value| value.to_string()),
            ["0", "1000000000000000"]
        );
        assert_eq!(serde_json::to_string(&Value::Float32(49.98)).unwrap(), "49.98");
        assert_eq!(serde_json::to_string(&Value::Float64(f64::NAN)).unwrap(), "null");
    }
}
