use crate::proto::{DataSet, Metric, Payload, PropertySet, PropertyValue, Template, metric, property_value, scalar};
use crate::{DataType, MetricQuality, ValueError, decode_value};

/// How deep templates and property sets may nest before a payload is refused.
///
/// The wire format sets no bound but prost's own of 100; nothing in the trade nests deeper than a few levels.
const MAX_DEPTH: usize = 16;

/// A rule of the specification that a well-formed payload breaks.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// A value does not fit its datatype.
    #[error("metric {metric}: {source}")]
    Value {
        /// Name or alias of the metric.
        metric: String,
        /// What does not fit.
        source: ValueError,
    },
    /// Something else is wrong with a metric.
    #[error("metric {metric}: {what}")]
    Metric {
        /// Name or alias of the metric.
        metric: String,
        /// The broken rule.
        what: &'static str,
    },
}

/// Checks every metric of a payload against the rules of the specification.
///
/// Metrics without a datatype (data and commands of an announced metric) are checked as far as they say what they are.
///
/// ```
/// use interlex_sparkplug::proto::{Metric, Payload, metric};
/// use interlex_sparkplug::{DataType, check_payload};
///
/// let metric = |value| Metric {
///     name: Some("level".to_owned()),
///     datatype: Some(DataType::UInt8.code()),
///     value: Some(metric::Value::IntValue(value)),
///     ..Metric::default()
/// };
/// let payload = |value| Payload { metrics: vec![metric(value)], ..Payload::default() };
/// assert_eq!(check_payload(&payload(255)), Ok(()));
/// assert!(check_payload(&payload(256)).unwrap_err().to_string().starts_with("metric \"level\""));
/// ```
///
/// # Errors
/// The first broken rule.
pub fn check_payload(payload: &Payload) -> Result<(), RuleError> {
    payload.metrics.iter().try_for_each(|metric| check_metric(metric, 0))
}

fn check_metric(metric: &Metric, depth: usize) -> Result<(), RuleError> {
    let name = || match (&metric.name, metric.alias) {
        (Some(name), _) => format!("{name:?}"),
        (None, Some(alias)) => format!("alias {alias}"),
        (None, None) => "without name and alias".to_owned(),
    };
    let broken = |what| RuleError::Metric { metric: name(), what };
    if depth > MAX_DEPTH {
        return Err(broken("nested too deep"));
    }
    if let Some(properties) = &metric.properties {
        check_properties(properties, depth).map_err(broken)?;
    }
    match (&metric.value, metric.is_null.unwrap_or(false)) {
        (Some(_), true) => return Err(broken("is_null together with a value")),
        (None, false) => return Err(broken("neither a value nor is_null")),
        _ => {}
    }
    let Some(code) = metric.datatype else { return Ok(()) };
    let data_type = DataType::from_code(code).ok_or_else(|| broken("a datatype that does not exist"))?;
    if matches!(data_type, DataType::PropertySet | DataType::PropertySetList) {
        return Err(broken("a datatype that is for properties only"));
    }
    let Some(value) = &metric.value else { return Ok(()) };
    match (data_type, value) {
        (DataType::DataSet, metric::Value::DatasetValue(dataset)) => check_dataset(dataset).map_err(broken),
        (DataType::Template, metric::Value::TemplateValue(template)) => {
            check_template(template).map_err(broken)?;
            template.metrics.iter().try_for_each(|member| check_metric(member, depth + 1))
        }
        (DataType::Bytes | DataType::File, metric::Value::BytesValue(_)) => Ok(()),
        (_, metric::Value::BytesValue(bytes)) if code >= DataType::Int8Array.code() => {
            check_array(data_type, bytes).map_err(broken)
        }
        (DataType::UUID, metric::Value::StringValue(text)) if !is_uuid(text) => Err(broken("no UUID")),
        _ => decode_value(data_type, value).map(|_| ()).map_err(|source| RuleError::Value { metric: name(), source }),
    }
}

fn is_uuid(text: &str) -> bool {
    let groups: Vec<_> = text.split('-').map(str::len).collect();
    groups == [8, 4, 4, 4, 12] && text.chars().all(|c| c == '-' || c.is_ascii_hexdigit())
}

/// Source: Sparkplug 3.0.0, section 6.4.16 (arrays).
fn check_array(data_type: DataType, bytes: &[u8]) -> Result<(), &'static str> {
    if let Some(size) = data_type.element_bytes() {
        return if bytes.len().is_multiple_of(size) { Ok(()) } else { Err("an array that ends inside an element") };
    }
    match data_type {
        DataType::StringArray if bytes.last().is_some_and(|byte| *byte != 0) => {
            Err("a string array without its final zero byte")
        }
        DataType::BooleanArray => {
            let (count, packed) = bytes.split_first_chunk().ok_or("a boolean array without its count")?;
            let count = u32::from_le_bytes(*count);
            let wanted = usize::try_from(count.div_ceil(8)).unwrap_or(usize::MAX);
            if packed.len() == wanted { Ok(()) } else { Err("a boolean array of another size than its count") }
        }
        _ => Ok(()),
    }
}

/// Source: Sparkplug 3.0.0, tck-id-payloads-dataset-column-size, -column-num-headers, -types-num, -types-value.
fn check_dataset(dataset: &DataSet) -> Result<(), &'static str> {
    let columns = usize::try_from(dataset.num_of_columns.unwrap_or(0)).unwrap_or(usize::MAX);
    if dataset.columns.len() != columns {
        return Err("a dataset with more or fewer names than columns");
    }
    if dataset.types.len() != columns {
        return Err("a dataset with more or fewer types than columns");
    }
    for row in &dataset.rows {
        if row.elements.len() != columns {
            return Err("a dataset row with more or fewer elements than columns");
        }
        for (code, element) in dataset.types.iter().zip(&row.elements) {
            let data_type = DataType::from_code(*code).ok_or("a dataset column of no datatype")?;
            if let Some(value) = element.value.clone()
                && decode_value(data_type, &widen(value)).is_err()
            {
                return Err("a dataset element of another type than its column");
            }
        }
    }
    Ok(())
}

fn widen(value: scalar::Value) -> metric::Value {
    match value {
        scalar::Value::IntValue(bits) => metric::Value::IntValue(bits),
        scalar::Value::LongValue(bits) => metric::Value::LongValue(bits),
        scalar::Value::FloatValue(float) => metric::Value::FloatValue(float),
        scalar::Value::DoubleValue(float) => metric::Value::DoubleValue(float),
        scalar::Value::BooleanValue(bit) => metric::Value::BooleanValue(bit),
        scalar::Value::StringValue(text) => metric::Value::StringValue(text),
    }
}

/// Source: Sparkplug 3.0.0, tck-id-payloads-template-is-definition, -definition-ref, -instance-ref.
fn check_template(template: &Template) -> Result<(), &'static str> {
    match (template.is_definition, &template.template_ref) {
        (None, _) => Err("a template that does not say whether it is a definition"),
        (Some(true), Some(_)) => Err("a template definition with a reference"),
        (Some(false), None) => Err("a template instance without a reference"),
        _ => Ok(()),
    }
}

/// Source: Sparkplug 3.0.0, tck-id-payloads-propertyset-keys-array-size, -quality-value-type, -quality-value-value.
fn check_properties(properties: &PropertySet, depth: usize) -> Result<(), &'static str> {
    if depth > MAX_DEPTH {
        return Err("properties nested too deep");
    }
    if properties.keys.len() != properties.values.len() {
        return Err("a property set with more or fewer keys than values");
    }
    properties.keys.iter().zip(&properties.values).try_for_each(|(key, value)| check_property(key, value, depth))
}

fn check_property(key: &str, property: &PropertyValue, depth: usize) -> Result<(), &'static str> {
    use property_value::Value;
    let data_type = property.r#type.and_then(DataType::from_code).ok_or("a property without a type")?;
    if key == "Quality" {
        if data_type != DataType::Int32 {
            return Err("a property Quality that is no Int32");
        }
        let known = [MetricQuality::Bad, MetricQuality::Good, MetricQuality::Stale].map(MetricQuality::code);
        if !matches!(property.value, Some(Value::IntValue(code)) if known.contains(&code)) {
            return Err("a property Quality that is none of 0, 192 and 500");
        }
    }
    let scalar = match &property.value {
        None => return Ok(()),
        Some(Value::PropertysetValue(set)) => return check_properties(set, depth + 1),
        Some(Value::PropertysetsValue(list)) => {
            return list.propertyset.iter().try_for_each(|set| check_properties(set, depth + 1));
        }
        Some(Value::IntValue(bits)) => metric::Value::IntValue(*bits),
        Some(Value::LongValue(bits)) => metric::Value::LongValue(*bits),
        Some(Value::FloatValue(float)) => metric::Value::FloatValue(*float),
        Some(Value::DoubleValue(float)) => metric::Value::DoubleValue(*float),
        Some(Value::BooleanValue(bit)) => metric::Value::BooleanValue(*bit),
        Some(Value::StringValue(text)) => metric::Value::StringValue(text.clone()),
    };
    decode_value(data_type, &scalar).map(|_| ()).map_err(|_| "a property value of another type than it says")
}
