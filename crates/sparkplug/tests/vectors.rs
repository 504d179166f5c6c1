//! Payloads made and checked with independent implementations.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_sparkplug::proto::{Metric, metric::Value as Wire};
use interlex_sparkplug::{
    DataType, MetricValue, check_payload, decode_payload, decode_value, encode_payload, encode_value,
};
use serde_json::{Value, json};

fn vectors() -> Vec<Value> {
    include_str!("vectors/sparkplug.jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn bytes(vector: &Value) -> Vec<u8> {
    hex::decode(vector["hex"].as_str().unwrap()).unwrap()
}

fn name(vector: &Value) -> &str {
    vector["name"].as_str().unwrap()
}

/// Numbers as the vectors write them: what JSON cannot say is text.
fn float(number: f64) -> Value {
    match number {
        n if n.is_nan() => json!("NaN"),
        n if n.is_infinite() => json!(if n > 0.0 { "Infinity" } else { "-Infinity" }),
        n => json!(n),
    }
}

fn same(left: &Value, right: &Value) -> bool {
    match (left.as_f64(), right.as_f64()) {
        (Some(left), Some(right)) => left.to_bits() == right.to_bits() || (left == right && left != 0.0),
        _ => left == right,
    }
}

fn field(wire: &Wire) -> &'static str {
    match wire {
        Wire::IntValue(_) => "int_value",
        Wire::LongValue(_) => "long_value",
        Wire::FloatValue(_) => "float_value",
        Wire::DoubleValue(_) => "double_value",
        Wire::BooleanValue(_) => "boolean_value",
        Wire::StringValue(_) => "string_value",
        Wire::BytesValue(_) => "bytes_value",
        Wire::DatasetValue(_) => "dataset_value",
        Wire::TemplateValue(_) => "template_value",
    }
}

fn assert_metric(context: &str, metric: &Metric, wanted: &Value) {
    assert_eq!(metric.name.as_deref(), wanted.get("name").and_then(Value::as_str), "{context}");
    assert_eq!(metric.alias, wanted.get("alias").and_then(Value::as_u64), "{context}");
    assert_eq!(metric.timestamp, wanted.get("timestamp").and_then(Value::as_u64), "{context}");
    let code = metric.datatype.map(u64::from);
    assert_eq!(code, wanted.get("datatype_code").and_then(Value::as_u64), "{context}");
    assert_eq!(metric.is_null, wanted.get("is_null").and_then(Value::as_bool), "{context}");
    assert_eq!(metric.is_historical, wanted.get("is_historical").and_then(Value::as_bool), "{context}");
    // Payloads made by another library list the values without their fields.
    if let Some(wanted) = wanted.get("field").and_then(Value::as_str) {
        assert_eq!(metric.value.as_ref().map(field), Some(wanted), "{context}");
    }
    let data_type = metric.datatype.and_then(DataType::from_code);
    if let Some(data_type) = data_type {
        assert_eq!(Some(data_type.name()), wanted.get("datatype").and_then(Value::as_str), "{context}");
    }
    if let (Some(data_type), Some(wire)) = (data_type, &metric.value)
        && let Ok(value) = decode_value(data_type, wire)
    {
        let got = match &value {
            MetricValue::Bool(bit) => json!(bit),
            MetricValue::Int(int) => json!(int),
            MetricValue::Uint(uint) => json!(uint),
            MetricValue::Float(number) => float(f64::from(*number)),
            MetricValue::Double(number) => float(*number),
            MetricValue::Text(text) => json!(text),
        };
        assert!(same(&got, &wanted["value"]), "{context}: {got} for {}", wanted["value"]);
        if !context.ends_with("decode only") && wanted["value"] != "NaN" {
            assert_eq!(encode_value(data_type, value).as_ref(), Ok(wire), "{context}");
        }
    }
}

#[test]
fn payloads_decode_to_their_meaning_and_encode_to_the_same_bytes() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|vector| vector.get("expect").is_none()) {
        let (wire, meaning) = (bytes(vector), &vector["meaning"]);
        let payload = decode_payload(&wire).unwrap_or_else(|error| panic!("{}: {error}", name(vector)));
        assert_eq!(payload.timestamp, meaning.get("timestamp").and_then(Value::as_u64), "{}", name(vector));
        assert_eq!(payload.seq, meaning.get("seq").and_then(Value::as_u64), "{}", name(vector));
        let wanted = meaning["metrics"].as_array().unwrap();
        assert_eq!(payload.metrics.len(), wanted.len(), "{}", name(vector));
        let decode_only = vector.get("decode_only").is_some();
        let context = format!("{}{}", name(vector), if decode_only { ", decode only" } else { "" });
        for (metric, wanted) in payload.metrics.iter().zip(wanted) {
            assert_metric(&context, metric, wanted);
        }
        assert_eq!(check_payload(&payload), Ok(()), "{context}");
        if !decode_only {
            assert_eq!(encode_payload(&payload), wire, "{context}");
        }
        seen += 1;
    }
    assert!(seen > 100, "{seen}");
}

#[test]
fn what_breaks_the_wire_format_or_a_rule_is_refused() {
    for vector in vectors().iter().filter(|vector| vector.get("expect").is_some()) {
        let decoded = decode_payload(&bytes(vector));
        match vector["level"].as_str().unwrap() {
            "wire" => assert!(decoded.is_err(), "{}", name(vector)),
            _ => assert!(check_payload(&decoded.unwrap()).is_err(), "{}", name(vector)),
        }
    }
}
