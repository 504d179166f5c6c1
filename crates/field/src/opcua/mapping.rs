//! Between the values of servers and those of points.

use interlex_core::description::{OpcUaPoint, Point};
use interlex_core::{ArrayType, DataType, ElementType, Quality, Reason, Timestamp, Value, iso_time};
use interlex_opcua::{
    Array, ByteString, DataTypes, DataValue, DateTime, FieldValue, Limits, NodeId, Scalar, StatusCode, Variant,
};

/// What only points of servers have.
pub(super) fn own(point: &Point) -> OpcUaPoint {
    point.opcua().map(|(_, own)| own.clone()).unwrap_or_default()
}

/// How values of a node become those of a point.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Reader {
    field: Option<Box<str>>,
    has_element: bool,
    is_method: bool,
    data_type: DataType,
}

/// A value that a point has, with its type.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Understood {
    pub(super) value: Option<Value>,
    pub(super) data_type: Option<DataType>,
    pub(super) quality: Quality,
    /// When it became what it is, as far as the server tells.
    pub(super) time: Option<Timestamp>,
}

impl Understood {
    /// As text, whatever it is.
    pub(super) fn into_text(self) -> Self {
        let value = self.value.map(|value| Value::Text(value.to_string().into()));
        Self { value, data_type: self.data_type.map(|_| TEXT), ..self }
    }
}

/// Source: OPC 10000-6, annex A.1.
const VALUE: u32 = 13;
const USER_EXECUTABLE: u32 = 22;
/// Texts, and lists as texts, are told up to this many bytes.
const LONGEST: usize = 1 << 20;
/// Text has no longest length in a server.
const TEXT: DataType = DataType::String(250);

impl Reader {
    pub(super) fn new(point: &Point) -> Self {
        let own = own(point);
        let (has_element, is_method) = (own.element.is_some(), own.arguments.is_some());
        Self { field: own.field, has_element, is_method, data_type: point.settings.data_type }
    }

    /// What is read of its node: a value, or whether a method may be called.
    pub(super) const fn attribute(&self) -> u32 {
        if self.is_method { USER_EXECUTABLE } else { VALUE }
    }

    /// Whether the structures of its node have to be known.
    pub(super) const fn needs_structure(&self) -> bool {
        self.field.is_some()
    }

    pub(super) fn read(&self, told: &DataValue, types: &DataTypes) -> Understood {
        let time = [told.source_time, told.server_time].into_iter().flatten();
        let time = time.filter_map(DateTime::unix_millis).next().map(Timestamp::from_millis);
        let status = told.status();
        let quality = quality(status);
        let none = |quality| Understood { value: None, data_type: None, quality, time };
        let Some(variant) = told.value.as_ref().filter(|_| !status.is_bad()) else {
            // A value that is said to be good and is not there is none.
            let is_empty = !quality.is_bad() && told.value.is_none();
            return none(if is_empty { bad(StatusCode::BAD_NO_DATA) } else { quality });
        };
        let variant = match self.part(variant, types) {
            Ok(variant) => variant,
            Err(status) => return none(bad(status)),
        };
        // It is not being called: what a method shows is whether it may be.
        let variant = match variant {
            Variant::Scalar(Scalar::Boolean(true)) if self.is_method => false.into(),
            _ if self.is_method => return none(bad(StatusCode::BAD_NOT_EXECUTABLE)),
            other => other,
        };
        let Some((value, data_type)) = value(&variant) else {
            return match variant {
                Variant::Null => none(if quality.is_bad() { quality } else { bad(StatusCode::BAD_NO_DATA) }),
                _ => none(bad(StatusCode::BAD_DATA_TYPE_ID_UNKNOWN)),
            };
        };
        if matches!(&value, Value::Text(text) if text.len() > LONGEST) {
            return none(bad(StatusCode::BAD_ENCODING_LIMITS_EXCEEDED));
        }
        if self.data_type == DataType::Auto {
            return Understood { value: Some(value), data_type: Some(data_type), quality, time };
        }
        match value.into_type(self.data_type) {
            Some(value) => Understood { value: Some(value), data_type: None, quality, time },
            None => none(bad(StatusCode::BAD_TYPE_MISMATCH)),
        }
    }

    /// The element and the field that are meant.
    fn part(&self, variant: &Variant, types: &DataTypes) -> Result<Variant, StatusCode> {
        // Of an array with one element that one is meant: the server was asked for no more.
        let variant = match variant {
            Variant::Array(elements) | Variant::Matrix(elements, _) if self.has_element => {
                elements.get(0).ok_or(StatusCode::BAD_INDEX_RANGE_NO_DATA)?
            }
            // Bytes may come as one string of them.
            Variant::Scalar(Scalar::ByteString(bytes)) if self.has_element => {
                let byte = bytes.as_bytes().first().ok_or(StatusCode::BAD_INDEX_RANGE_NO_DATA)?;
                Variant::Scalar(Scalar::Byte(*byte))
            }
            other => other.clone(),
        };
        let Some(field) = &self.field else { return Ok(variant) };
        let Variant::Scalar(Scalar::ExtensionObject(object)) = &variant else {
            return Err(StatusCode::BAD_TYPE_MISMATCH);
        };
        let fields = types.read(object, Limits::default()).map_err(|_| StatusCode::BAD_DATA_TYPE_ID_UNKNOWN)?;
        match fields.get(field) {
            Some(FieldValue::Value(value)) => Ok(value),
            Some(FieldValue::Absent) => Ok(Variant::Null),
            Some(FieldValue::Structure(_) | FieldValue::Structures(_)) => Err(StatusCode::BAD_TYPE_MISMATCH),
            None => Err(StatusCode::BAD_NO_MATCH),
        }
    }
}

const fn bad(status: StatusCode) -> Quality {
    Quality::Bad(Reason::OpcUa(status.0))
}

/// What a status says, without the bits that say more than its name.
pub(super) const fn quality(status: StatusCode) -> Quality {
    let code = status.code();
    if status.is_bad() {
        bad(code)
    } else if status.is_uncertain() {
        Quality::Uncertain(Reason::OpcUa(code.0))
    } else if code.0 == StatusCode::GOOD.0 {
        Quality::Good
    } else {
        Quality::Noted(Reason::OpcUa(code.0))
    }
}

/// A value that a point can have, with its type; none for nothing, and for what has no such form.
pub(super) fn value(variant: &Variant) -> Option<(Value, DataType)> {
    Some(match variant {
        Variant::Null => return None,
        Variant::Scalar(scalar) => return scalar_value(scalar),
        Variant::Array(elements) => (listed(elements)?, list_type(elements, &[])),
        Variant::Matrix(elements, lengths) => (listed(elements)?, list_type(elements, lengths)),
    })
}

fn scalar_value(scalar: &Scalar) -> Option<(Value, DataType)> {
    let carried = |text: String, data_type| Some((Value::Text(text.into()), data_type));
    let text = |text: String| carried(text, TEXT);
    Some(match scalar {
        Scalar::Boolean(bit) => (Value::Bool(*bit), DataType::Bool),
        Scalar::SByte(number) => (Value::Int((*number).into()), DataType::Int8),
        Scalar::Byte(number) => (Value::Uint((*number).into()), DataType::Uint8),
        Scalar::Int16(number) => (Value::Int((*number).into()), DataType::Int16),
        Scalar::UInt16(number) => (Value::Uint((*number).into()), DataType::Uint16),
        Scalar::Int32(number) => (Value::Int((*number).into()), DataType::Int32),
        Scalar::UInt32(number) => (Value::Uint((*number).into()), DataType::Uint32),
        Scalar::Int64(number) => (Value::Int(*number), DataType::Int64),
        Scalar::UInt64(number) => (Value::Uint(*number), DataType::Uint64),
        Scalar::Float(number) => (Value::Float32(*number), DataType::Float32),
        Scalar::Double(number) => (Value::Float64(*number), DataType::Float64),
        Scalar::StatusCode(status) => (Value::Uint(status.0.into()), DataType::Uint32),
        Scalar::String(told) => return told.clone().and_then(text),
        Scalar::DateTime(time) => {
            return time.unix_millis().and_then(|millis| carried(iso_time(millis), DataType::DateTime));
        }
        Scalar::Guid(guid) => return carried(guid.to_string(), DataType::Uuid),
        Scalar::ByteString(bytes) => {
            // Two digits a byte; of one that is too long no more is needed.
            let bytes = bytes.0.as_deref().map(|bytes| bytes.get(..=LONGEST / 2).unwrap_or(bytes));
            return bytes.and_then(|bytes| carried(hexadecimal(bytes), DataType::Bytes));
        }
        Scalar::XmlElement(xml) => return xml.0.clone().and_then(text),
        Scalar::NodeId(node) => return text(node.to_string()),
        Scalar::ExpandedNodeId(node) => return text(node.to_string()),
        Scalar::QualifiedName(name) => return name.name.clone().and_then(text),
        Scalar::LocalizedText(told) => return told.text.clone().and_then(text),
        Scalar::DataValue(inner) => return inner.value.as_ref().and_then(value),
        Scalar::ExtensionObject(_) | Scalar::DiagnosticInfo(_) => return None,
    })
}

/// The elements with commas between them, as JSON has them; none where one of them has no form.
fn listed(elements: &Array) -> Option<Value> {
    let has_no_form = matches!(elements, Array::ExtensionObject(_) | Array::DiagnosticInfo(_));
    let element = |place: usize| match value(&elements.get(place)?).map(|(value, _)| value) {
        // Nothing, a text or a moment that is not there, and what is not finite: JSON has one word for it.
        None => Some("null".to_owned()),
        Some(number) if number.is_not_finite() => Some("null".to_owned()),
        Some(Value::Text(text)) => serde_json::to_string(&*text).ok(),
        Some(other) => Some(other.to_string()),
    };
    if has_no_form {
        return None;
    }
    let mut text = "[".to_owned();
    for place in 0..elements.len() {
        if place > 0 {
            text.push(',');
        }
        text.push_str(&element(place)?);
        // What is too long is told as such; nobody needs the rest of it for that.
        if text.len() > LONGEST {
            break;
        }
    }
    text.push(']');
    Some(Value::Text(text.into()))
}

/// The type of a list, or of a matrix of some lengths.
fn list_type(elements: &Array, lengths: &[i32]) -> DataType {
    let element = match elements {
        Array::Boolean(_) => ElementType::Bool,
        Array::SByte(_) => ElementType::Int8,
        Array::Byte(_) => ElementType::Uint8,
        Array::Int16(_) => ElementType::Int16,
        Array::UInt16(_) => ElementType::Uint16,
        Array::Int32(_) => ElementType::Int32,
        Array::UInt32(_) | Array::StatusCode(_) => ElementType::Uint32,
        Array::Int64(_) => ElementType::Int64,
        Array::UInt64(_) => ElementType::Uint64,
        Array::Float(_) => ElementType::Float32,
        Array::Double(_) => ElementType::Float64,
        Array::DateTime(_) => ElementType::DateTime,
        // Each of another type.
        Array::Variant(_) | Array::DataValue(_) => return TEXT,
        _ => ElementType::String,
    };
    let lengths: Vec<_> = lengths.iter().map(|length| u32::try_from(*length).unwrap_or(0)).collect();
    DataType::Array(ArrayType::matrix(element, &lengths))
}

fn moment(text: &str) -> Option<DateTime> {
    let moment = interlex_core::milliseconds_of(text)?;
    Some(DateTime::from_unix_millis(moment))
}

fn of_hexadecimal(text: &str) -> Option<Vec<u8>> {
    let pairs = text.as_bytes().chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok());
    DataType::Bytes.takes_text(text).then(|| pairs.collect())?
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The type by which values of a built-in type are written to a point, by its number.
pub(super) const fn data_type_of(built_in: u8) -> Option<DataType> {
    Some(match built_in {
        1 => DataType::Bool,
        2 => DataType::Int8,
        3 => DataType::Uint8,
        4 => DataType::Int16,
        5 => DataType::Uint16,
        6 => DataType::Int32,
        7 | 19 => DataType::Uint32,
        8 => DataType::Int64,
        9 => DataType::Uint64,
        10 => DataType::Float32,
        11 => DataType::Float64,
        12 | 20 | 21 => TEXT,
        13 => DataType::DateTime,
        14 => DataType::Uuid,
        15 => DataType::Bytes,
        _ => return None,
    })
}

/// A raw value as one of a built-in type, by its number; none where it does not fit.
pub(super) fn variant(raw: &Value, built_in: u8) -> Option<Variant> {
    let whole = || match raw {
        Value::Int(number) => Some(i128::from(*number)),
        Value::Uint(number) => Some(i128::from(*number)),
        _ => None,
    };
    let text = || match raw {
        Value::Text(text) => Some(text.to_string()),
        _ => None,
    };
    let number = || raw.as_f64().filter(|_| !matches!(raw, Value::Bool(_)));
    #[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
    let single = || number().map(|number| number as f32).filter(|number| number.is_finite());
    Some(Variant::Scalar(match built_in {
        1 => match raw {
            Value::Bool(bit) => Scalar::Boolean(*bit),
            _ => return None,
        },
        2 => Scalar::SByte(whole()?.try_into().ok()?),
        3 => Scalar::Byte(whole()?.try_into().ok()?),
        4 => Scalar::Int16(whole()?.try_into().ok()?),
        5 => Scalar::UInt16(whole()?.try_into().ok()?),
        6 => Scalar::Int32(whole()?.try_into().ok()?),
        7 => Scalar::UInt32(whole()?.try_into().ok()?),
        8 => Scalar::Int64(whole()?.try_into().ok()?),
        9 => Scalar::UInt64(whole()?.try_into().ok()?),
        10 => Scalar::Float(single()?),
        11 => Scalar::Double(number()?),
        12 => Scalar::String(Some(text()?)),
        13 => Scalar::DateTime(moment(&text()?)?),
        14 => Scalar::Guid(text()?.parse().ok()?),
        15 => Scalar::ByteString(ByteString(Some(of_hexadecimal(&text()?)?))),
        19 => Scalar::StatusCode(StatusCode(whole()?.try_into().ok()?)),
        20 => Scalar::QualifiedName(interlex_opcua::QualifiedName { namespace: 0, name: Some(text()?) }),
        21 => {
            let told = interlex_opcua::LocalizedText { locale: None, text: Some(text()?) };
            Scalar::LocalizedText(told.into())
        }
        _ => return None,
    }))
}

/// The number of the built-in type that a node of the standard's namespace names.
pub(super) fn built_in(data_type: &NodeId) -> Option<u8> {
    match data_type {
        NodeId { namespace: 0, identifier: interlex_opcua::Identifier::Numeric(number) } => match number {
            1..=25 => u8::try_from(*number).ok(),
            // Enumerations, durations, and moments of UTC.
            29 => Some(6),
            290 => Some(11),
            294 => Some(13),
            _ => None,
        },
        _ => None,
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use interlex_core::description::{Files, read};

    pub(in crate::opcua) fn point(row: &str) -> Point {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"opcua\"\nurl = \
                    \"opc.tcp://engine\"\n[[device]]\nname = \"d\"\nlink = \"l\"\npoints = \"p.csv\"\n";
        let list = format!("name,address,type,field,element,rate\nx,ns=2;s=X,{row},fast\n");
        let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list)].into();
        Point::clone(&read(&files).unwrap().devices[0].points[0])
    }

    fn reader(row: &str) -> Reader {
        Reader::new(&point(row))
    }

    fn told(value: impl Into<Option<Variant>>) -> DataValue {
        DataValue { value: value.into(), ..DataValue::default() }
    }

    #[test]
    fn values_keep_their_types_and_their_status_its_name() {
        let (auto, types) = (reader(",,"), DataTypes::default());
        let of = |variant: Variant| {
            let read = auto.read(&told(variant), &types);
            (read.value.map(|value| value.to_string()), read.data_type.map(|data_type| data_type.to_string()))
        };
        let some = |value: &str, data_type: &str| (Some(value.to_owned()), Some(data_type.to_owned()));
        assert_eq!(of(Variant::Scalar(Scalar::SByte(-3))), some("-3", "int8"));
        assert_eq!(of(Variant::Scalar(Scalar::Float(49.98))), some("49.98", "float32"));
        assert_eq!(
            of(Variant::Scalar(Scalar::DateTime(DateTime::from_unix_millis(0)))).0.unwrap(),
            "1970-01-01T00:00:00.000Z"
        );
        assert_eq!(of(Variant::Array(Array::Double(vec![1.5, f64::NAN]))), some("[1.5,null]", "float64[]"));
        let texts = vec![Some("a\"".to_owned()), None];
        assert_eq!(of(Variant::Array(Array::String(texts))), some("[\"a\\\"\",null]", "string[]"));
        let matrix = Variant::Matrix(Array::Byte(vec![1, 2, 3, 4, 5, 6]), vec![2, 3]);
        assert_eq!(of(matrix), some("[1,2,3,4,5,6]", "uint8[2,3]"));
        assert_eq!(
            of(Variant::Array(Array::Variant(vec![1_u16.into(), true.into()]))),
            some("[1,true]", "string(250)")
        );
        let bytes = Variant::Scalar(Scalar::ByteString(ByteString(Some(vec![0, 255]))));
        assert_eq!(of(bytes), some("00ff", "bytes"));
        assert_eq!(of(Variant::Scalar(Scalar::DateTime(DateTime(0)))), (None, None), "1601 is no moment");
        for too_long in [
            Variant::Array(Array::Double(vec![1.5; LONGEST / 4])),
            Variant::Scalar(Scalar::ByteString(ByteString(Some(vec![0; LONGEST])))),
            Variant::Scalar(Scalar::String(Some("x".repeat(LONGEST + 1)))),
        ] {
            let read = auto.read(&told(too_long), &types);
            assert_eq!(read.value, None);
            assert_eq!(crate::opcua::words(read.quality.reason().unwrap()), "BadEncodingLimitsExceeded");
        }
        let status =
            |code: u32| auto.read(&DataValue { status: Some(StatusCode(code)), ..told(Variant::from(1.0)) }, &types);
        assert_eq!(status(0x0000_0480).quality, Quality::Good);
        let by_hand = status(0x0096_0000);
        assert!(by_hand.quality.is_good() && by_hand.value.is_some());
        assert_eq!(crate::opcua::words(by_hand.quality.reason().unwrap()), "GoodLocalOverride");
        assert_eq!(status(0x4090_0480).quality, Quality::Uncertain(Reason::OpcUa(0x4090_0000)));
        let sensor = status(0x808C_0000);
        assert_eq!(
            (sensor.value, crate::opcua::words(sensor.quality.reason().unwrap())),
            (None, "BadSensorFailure".into())
        );
        assert_eq!(crate::opcua::words(auto.read(&told(None), &types).quality.reason().unwrap()), "BadNoData");
    }

    #[test]
    fn a_described_type_is_kept_and_what_does_not_fit_is_bad() {
        let types = DataTypes::default();
        let whole = reader("uint16,,").read(&told(Variant::Scalar(Scalar::Int32(40_000))), &types);
        assert_eq!((whole.value, whole.data_type), (Some(Value::Uint(40_000)), None));
        let too_large = reader("uint16,,").read(&told(Variant::Scalar(Scalar::Int32(70_000))), &types);
        assert_eq!(crate::opcua::words(too_large.quality.reason().unwrap()), "BadTypeMismatch");
        let element = reader(",,2").read(&told(Variant::Array(Array::Float(vec![409.0]))), &types);
        assert_eq!(element.value, Some(Value::Float32(409.0)));
        let none = reader(",,2").read(&told(Variant::Array(Array::Float(Vec::new()))), &types);
        assert_eq!(crate::opcua::words(none.quality.reason().unwrap()), "BadIndexRangeNoData");
    }

    #[test]
    fn raw_values_are_written_as_the_type_of_the_node_or_not_at_all() {
        let written = |raw: &Value, number| variant(raw, number);
        assert_eq!(written(&Value::Uint(200), 3), Some(Variant::Scalar(Scalar::Byte(200))));
        assert_eq!(written(&Value::Int(-1), 7), None);
        assert_eq!(written(&Value::Uint(1500), 11), Some(Variant::Scalar(Scalar::Double(1500.0))));
        assert_eq!(written(&Value::Float64(1e300), 10), None);
        assert_eq!(written(&Value::Bool(false), 1), Some(Variant::Scalar(Scalar::Boolean(false))));
        assert_eq!(written(&Value::Text("on".into()), 1), None);
        assert_eq!([10, 11].map(|number| written(&Value::Bool(true), number)), [None, None]);
    }
}
