//! Values as the vectors write them.

use crate::codec::Binary;
use crate::service::{
    AnonymousIdentityToken, DataChangeFilter, DataChangeNotification, EventNotificationList, HistoryData,
    ReadRawModifiedDetails, StatusChangeNotification, UserNameIdentityToken, X509IdentityToken,
};
use crate::structure::{Argument, EUInformation, EnumValueType, Range, Structure};
use crate::types::{
    Array, Body, ByteString, DataValue, DateTime, DiagnosticInfo, ExpandedNodeId, ExtensionObject, Guid, LocalizedText,
    NodeId, QualifiedName, Scalar, StatusCode, Variant, XmlElement,
};
use serde::{Serialize, Serializer};
use serde_json::{Map, Value, json};

/// What the vectors say of a value.
pub(crate) fn meaning(value: &impl Serialize) -> Value {
    serde_json::to_value(value).unwrap()
}

macro_rules! meanings {
    ($($name:ty: $meaning:expr;)*) => {$(
        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                let meaning: fn(&Self) -> Value = $meaning;
                meaning(self).serialize(serializer)
            }
        }
    )*};
}

meanings! {
    StatusCode: |status| json!(format!("0x{:08X} {}", status.0, status.name().unwrap_or_default()));
    DateTime: |time| {
        let at = jiff::Timestamp::from_nanosecond((i128::from(time.0) - 116_444_736_000_000_000) * 100).unwrap();
        json!(format!("{at:.3}"))
    };
    Guid: |guid| json!(guid.to_string());
    ByteString: |bytes| json!(bytes.0.as_ref().map(hex::encode));
    XmlElement: |xml| json!(xml.0);
    NodeId: |node| json!(node.to_string());
    ExpandedNodeId: |node| json!(node.to_string());
    QualifiedName: |name| json!({ "NamespaceIndex": name.namespace, "Name": name.name });
    LocalizedText: |text| json!({ "Locale": text.locale, "Text": text.text });
    ExtensionObject: |object| match &object.body {
        Body::None => Value::Null,
        _ => known(object).map_or_else(|| json!(hex::encode(object.to_bytes())), |(name, body)| json!({ "TypeName": name, "Body": body })),
    };
    Variant: |variant| match variant {
        Variant::Null => json!({ "Type": "Null" }),
        Variant::Scalar(value) => json!({ "Type": TYPES[usize::from(value.type_number())], "Value": scalar(value) }),
        Variant::Array(elements) => json!({ "Type": TYPES[usize::from(elements.type_number())], "Array": array(elements) }),
        Variant::Matrix(elements, dimensions) => {
            json!({ "Type": TYPES[usize::from(elements.type_number())], "Array": array(elements), "Dimensions": dimensions })
        }
    };
    DataValue: |value| fields([
        ("Value", value.value.as_ref().map(meaning)),
        ("StatusCode", value.status.as_ref().map(meaning)),
        ("SourceTimestamp", value.source_time.as_ref().map(meaning)),
        ("SourcePicoseconds", value.source_picoseconds.map(|part| json!(part))),
        ("ServerTimestamp", value.server_time.as_ref().map(meaning)),
        ("ServerPicoseconds", value.server_picoseconds.map(|part| json!(part))),
    ]);
    DiagnosticInfo: |info| fields([
        ("SymbolicId", info.symbolic_id.map(|number| json!(number))),
        ("NamespaceURI", info.namespace_uri.map(|number| json!(number))),
        ("Locale", info.locale.map(|number| json!(number))),
        ("LocalizedText", info.localized_text.map(|number| json!(number))),
        ("AdditionalInfo", info.additional_info.as_ref().map(|text| json!(text))),
        ("InnerStatusCode", info.inner_status.as_ref().map(meaning)),
        ("InnerDiagnosticInfo", info.inner.as_ref().map(|inner| meaning(&**inner))),
    ]);
}

fn fields<const N: usize>(fields: [(&str, Option<Value>); N]) -> Value {
    let there = fields.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?)));
    Value::Object(there.collect::<Map<_, _>>())
}

const TYPES: [&str; 26] = [
    "Null",
    "Boolean",
    "SByte",
    "Byte",
    "Int16",
    "UInt16",
    "Int32",
    "UInt32",
    "Int64",
    "UInt64",
    "Float",
    "Double",
    "String",
    "DateTime",
    "Guid",
    "ByteString",
    "XmlElement",
    "NodeId",
    "ExpandedNodeId",
    "StatusCode",
    "QualifiedName",
    "LocalizedText",
    "ExtensionObject",
    "DataValue",
    "Variant",
    "DiagnosticInfo",
];

/// The number of a type by its name.
pub(crate) fn type_number(name: &str) -> Option<u8> {
    TYPES.iter().position(|known| *known == name).and_then(|number| u8::try_from(number).ok())
}

fn float(float: f64) -> Value {
    match float {
        _ if float.is_nan() => json!("NaN"),
        f64::INFINITY => json!("Infinity"),
        f64::NEG_INFINITY => json!("-Infinity"),
        _ => json!(float),
    }
}

pub(crate) fn scalar(value: &Scalar) -> Value {
    match value {
        Scalar::Boolean(bit) => json!(bit),
        Scalar::SByte(number) => json!(number),
        Scalar::Byte(number) => json!(number),
        Scalar::Int16(number) => json!(number),
        Scalar::UInt16(number) => json!(number),
        Scalar::Int32(number) => json!(number),
        Scalar::UInt32(number) => json!(number),
        Scalar::Int64(number) => json!(number.to_string()),
        Scalar::UInt64(number) => json!(number.to_string()),
        Scalar::Float(number) => float((*number).into()),
        Scalar::Double(number) => float(*number),
        Scalar::String(text) => json!(text),
        Scalar::DateTime(time) => meaning(time),
        Scalar::Guid(guid) => meaning(guid),
        Scalar::ByteString(bytes) => meaning(bytes),
        Scalar::XmlElement(xml) => meaning(xml),
        Scalar::NodeId(node) => meaning(node),
        Scalar::ExpandedNodeId(node) => meaning(&**node),
        Scalar::StatusCode(status) => meaning(status),
        Scalar::QualifiedName(name) => meaning(name),
        Scalar::LocalizedText(text) => meaning(&**text),
        Scalar::ExtensionObject(object) => meaning(&**object),
        Scalar::DataValue(value) => meaning(&**value),
        Scalar::DiagnosticInfo(info) => meaning(&**info),
    }
}

fn array(elements: &Array) -> Value {
    let element = |place| match elements.get(place).unwrap() {
        Variant::Scalar(value) if !matches!(elements, Array::Variant(_)) => scalar(&value),
        other => meaning(&other),
    };
    Value::Array((0..elements.len()).map(element).collect())
}

/// A structure that the vectors decode, by its name.
pub(crate) fn known(object: &ExtensionObject) -> Option<(&'static str, Value)> {
    macro_rules! first {
        ($($name:ident)*) => {$(
            if let Some(value) = $name::from_object(object) {
                return Some((stringify!($name), meaning(&value.unwrap())));
            }
        )*};
    }
    first! {
        Range EUInformation Argument EnumValueType AnonymousIdentityToken UserNameIdentityToken X509IdentityToken DataChangeFilter
        DataChangeNotification StatusChangeNotification EventNotificationList ReadRawModifiedDetails HistoryData
    }
    None
}

/// Whether a value is what a vector says. Null and empty arrays are the same; names behind numbers are for people.
pub(crate) fn agrees(told: &Value, got: &Value) -> bool {
    let is_empty = |value: &Value| value.is_null() || value.as_array().is_some_and(Vec::is_empty);
    match (told, got) {
        _ if is_empty(told) && is_empty(got) => true,
        (Value::Object(told), Value::Object(got)) => {
            // What is there, and says nothing, may be left out.
            let says_nothing =
                |value: &Value| *value == json!({ "Type": "Null" }) || *value == json!("0x00000000 Good");
            let may_lack = |(key, value): (&String, &Value)| told.contains_key(key) || says_nothing(value);
            got.iter().all(may_lack)
                && told.iter().all(|(key, value)| got.get(key).is_some_and(|got| agrees(value, got)))
        }
        (Value::Array(told), Value::Array(got)) => {
            told.len() == got.len() && told.iter().zip(got).all(|(told, got)| agrees(told, got))
        }
        (Value::Number(told), Value::Number(got)) => told.as_f64() == got.as_f64(),
        (Value::String(told), Value::Number(got)) => *told == got.to_string() || told.ends_with(&format!("({got})")),
        (Value::String(told), Value::String(got)) => told == got || got.starts_with("0x") && got.starts_with(told),
        _ => told == got,
    }
}
