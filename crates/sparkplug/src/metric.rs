use crate::DataType;
use crate::proto::metric::Value as Wire;
use std::borrow::Cow;

/// A scalar value of a metric.
#[derive(Debug, Clone, PartialEq)]
pub enum MetricValue<'a> {
    /// Boolean
    Bool(bool),
    /// Int8 to Int64
    Int(i64),
    /// UInt8 to UInt64 and DateTime
    Uint(u64),
    /// Float
    Float(f32),
    /// Double
    Double(f64),
    /// String, Text and UUID; and what is carried as text: DateTime as ISO 8601, Bytes as hexadecimal digits, arrays as a list in JSON
    Text(Cow<'a, str>),
}

impl MetricValue<'_> {
    /// The same value with nothing borrowed.
    #[must_use]
    pub fn into_owned(self) -> MetricValue<'static> {
        match self {
            Self::Bool(bit) => MetricValue::Bool(bit),
            Self::Int(int) => MetricValue::Int(int),
            Self::Uint(uint) => MetricValue::Uint(uint),
            Self::Float(float) => MetricValue::Float(float),
            Self::Double(float) => MetricValue::Double(float),
            Self::Text(text) => MetricValue::Text(Cow::Owned(text.into_owned())),
        }
    }
}

/// What the property `Quality` may say.
///
/// Source: Sparkplug 3.0.0, tck-id-payloads-propertyset-quality-value-value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MetricQuality {
    /// 0
    Bad,
    /// 192
    Good,
    /// 500
    Stale,
}

impl MetricQuality {
    /// The number on the wire.
    #[must_use]
    pub const fn code(self) -> u32 {
        match self {
            Self::Bad => 0,
            Self::Good => 192,
            Self::Stale => 500,
        }
    }
}

/// A value and a datatype that do not go together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ValueError {
    /// The value stands in a field that is not its datatype's.
    #[error("the value does not stand in the field of {0}")]
    Field(DataType),
    /// The number does not fit the datatype.
    #[error("the value is out of the range of {0}")]
    Range(DataType),
}

/// Puts a value into the field of its datatype. Negative integers are two's complement over the field.
///
/// ```
/// use interlex_sparkplug::proto::metric::Value;
/// use interlex_sparkplug::{DataType, MetricValue, ValueError, encode_value};
///
/// assert_eq!(encode_value(DataType::Int16, MetricValue::Int(-1)), Ok(Value::IntValue(u32::MAX)));
/// assert_eq!(encode_value(DataType::UInt64, MetricValue::Uint(u64::MAX)), Ok(Value::LongValue(u64::MAX)));
/// assert_eq!(encode_value(DataType::Int16, MetricValue::Int(40_000)), Err(ValueError::Range(DataType::Int16)));
/// ```
///
/// Source: Sparkplug 3.0.0, tck-id-payloads-metric-datatype-value-type and section 6.4.16.
///
/// # Errors
/// [`ValueError`] when the value is not of the datatype.
pub fn encode_value(data_type: DataType, value: MetricValue<'_>) -> Result<Wire, ValueError> {
    let number = match &value {
        MetricValue::Int(int) => i128::from(*int),
        MetricValue::Uint(uint) => i128::from(*uint),
        _ => 0,
    };
    let is_integer = matches!(value, MetricValue::Int(_) | MetricValue::Uint(_));
    match (data_type, value) {
        (DataType::Boolean, MetricValue::Bool(bit)) => Ok(Wire::BooleanValue(bit)),
        (DataType::Float, MetricValue::Float(float)) => Ok(Wire::FloatValue(float)),
        (DataType::Double, MetricValue::Double(float)) => Ok(Wire::DoubleValue(float)),
        (DataType::String | DataType::Text | DataType::UUID, MetricValue::Text(text)) => {
            Ok(Wire::StringValue(text.into_owned()))
        }
        (_, _) if is_integer => encode_integer(data_type, number),
        (_, _) => Err(ValueError::Field(data_type)),
    }
}

fn encode_integer(data_type: DataType, number: i128) -> Result<Wire, ValueError> {
    let (least, greatest) = data_type.integer_range().ok_or(ValueError::Field(data_type))?;
    if number < least || number > greatest {
        return Err(ValueError::Range(data_type));
    }
    let range = |_| ValueError::Range(data_type);
    if is_long(data_type) {
        // Lossless either way: the range above is that of i64 or of u64.
        let bits = i64::try_from(number).map(i64::cast_unsigned).or_else(|_| u64::try_from(number)).map_err(range)?;
        return Ok(Wire::LongValue(bits));
    }
    let bits = i32::try_from(number).map(i32::cast_unsigned).or_else(|_| u32::try_from(number)).map_err(range)?;
    Ok(Wire::IntValue(bits))
}

const fn is_long(data_type: DataType) -> bool {
    matches!(data_type, DataType::Int64 | DataType::UInt64 | DataType::DateTime)
}

/// Reads a scalar value. Lenient where hosts are known to differ: small negative integers may be cut to their own
/// width, and integers of 32 bits may stand in `long_value`.
///
/// # Errors
/// [`ValueError`] when the field or the number does not fit the datatype, or the datatype is no scalar.
pub fn decode_value<'a>(data_type: DataType, wire: &'a Wire) -> Result<MetricValue<'a>, ValueError> {
    match (data_type, wire) {
        (DataType::Boolean, Wire::BooleanValue(bit)) => Ok(MetricValue::Bool(*bit)),
        (DataType::Float, Wire::FloatValue(float)) => Ok(MetricValue::Float(*float)),
        (DataType::Double, Wire::DoubleValue(float)) => Ok(MetricValue::Double(*float)),
        (DataType::String | DataType::Text | DataType::UUID, Wire::StringValue(text)) => {
            Ok(MetricValue::Text(Cow::Borrowed(text)))
        }
        (_, Wire::IntValue(bits)) if !is_long(data_type) => decode_integer(data_type, u64::from(*bits), 32),
        (_, Wire::LongValue(bits)) => decode_integer(data_type, *bits, 64),
        _ => Err(ValueError::Field(data_type)),
    }
}

/// Reads the value of a command. The datatype that the command names decides how its number is read, and the announced one
/// where it names none; whether the number fits what was announced is for the receiver to say.
///
/// ```
/// use interlex_sparkplug::proto::metric::Value;
/// use interlex_sparkplug::{DataType, MetricValue, decode_command};
///
/// // 40000 as an Int32 is 40000, whatever the point is: it does not become negative on the way.
/// let told = decode_command(DataType::Int16, Some(DataType::Int32), &Value::IntValue(40_000));
/// assert_eq!(told, Ok(MetricValue::Int(40_000)));
/// assert!(decode_command(DataType::Int16, None, &Value::IntValue(40_000)).is_err());
/// ```
///
/// Where nothing says how wide a negative number was meant, one that reads as beyond the range is refused, not taken for a
/// negative one: 40000 for an Int16 is a mistake.
///
/// # Errors
/// [`ValueError`] when the field or the number does not fit the datatype, or the datatype is no scalar.
pub fn decode_command<'a>(
    announced: DataType,
    named: Option<DataType>,
    wire: &'a Wire,
) -> Result<MetricValue<'a>, ValueError> {
    let value = decode_value(named.unwrap_or(announced), wire)?;
    let is_cut = |bits: u64, value: i64| value < 0 && bits >> 63 == 0 && bits >> 31 & 1 == 0;
    match (named, &value, wire) {
        (None, MetricValue::Int(int), Wire::IntValue(bits)) if is_cut(u64::from(*bits), *int) => {
            Err(ValueError::Range(announced))
        }
        (None, MetricValue::Int(int), Wire::LongValue(bits)) if is_cut(*bits, *int) => {
            Err(ValueError::Range(announced))
        }
        _ => Ok(value),
    }
}

fn decode_integer<'a>(data_type: DataType, bits: u64, field_bits: u32) -> Result<MetricValue<'a>, ValueError> {
    let (least, greatest) = data_type.integer_range().ok_or(ValueError::Field(data_type))?;
    let fits = |number: i128| (least..=greatest).contains(&number);
    if least == 0 {
        return if fits(bits.into()) { Ok(MetricValue::Uint(bits)) } else { Err(ValueError::Range(data_type)) };
    }
    let own_bits = match data_type {
        DataType::Int8 => 8,
        DataType::Int16 => 16,
        DataType::Int32 => 32,
        _ => 64,
    };
    let signed = |width: u32| (bits << (64 - width)).cast_signed() >> (64 - width);
    let full = signed(field_bits);
    if fits(full.into()) {
        // A narrow negative number, cut to its own width, reads as a positive one beyond the range, never within it.
        return Ok(MetricValue::Int(full));
    }
    let is_narrow = own_bits < 64 && bits >> own_bits == 0;
    if is_narrow { Ok(MetricValue::Int(signed(own_bits))) } else { Err(ValueError::Range(data_type)) }
}
