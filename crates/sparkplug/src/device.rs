use crate::metric::MetricQuality;
use crate::proto::{Metric, PropertySet, PropertyValue, property_value};
use crate::{DataType, MetricValue, encode_value};

/// A device of the node, as its birth announces it.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceSpec {
    /// Device id.
    pub id: String,
    /// Its metrics.
    pub metrics: Vec<MetricSpec>,
}

/// A metric of a device, as its birth announces it.
#[derive(Debug, Clone, PartialEq)]
pub struct MetricSpec {
    /// Name, unique in the device.
    pub name: String,
    /// Alias, unique in the node: data messages carry it in place of the name.
    pub alias: u64,
    /// Its datatype, the same in every birth.
    pub data_type: DataType,
    /// Whether hosts may command it.
    pub is_writable: bool,
    /// Properties with a text or a number, such as the engineering unit.
    pub properties: Vec<(&'static str, MetricValue<'static>)>,
}

/// The state of a metric when a birth is made.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapshot<'a> {
    /// The current value; `None` becomes null.
    pub value: Option<MetricValue<'a>>,
    /// Its quality.
    pub quality: MetricQuality,
    /// Why the quality is not good.
    pub reason: Option<String>,
    /// When the value arose, in milliseconds since 1970 UTC.
    pub timestamp: u64,
}

/// Where births take current values from.
pub trait Snapshots {
    /// The state of a metric, by its alias.
    fn snapshot(&self, alias: u64) -> Snapshot<'_>;
}

/// One changed metric.
#[derive(Debug, Clone, PartialEq)]
pub struct Datum<'a> {
    /// Which metric of the device, by position in its [`DeviceSpec`].
    pub metric: usize,
    /// What it became.
    pub now: Snapshot<'a>,
    /// Whether it is not the current value, but one kept during an outage.
    pub is_historical: bool,
}

/// A device with what the session must remember of it.
#[derive(Debug)]
pub(crate) struct Device {
    pub(crate) spec: DeviceSpec,
    pub(crate) is_up: bool,
    pub(crate) is_born: bool,
    /// What went out last, per metric.
    told: Vec<Told>,
}

#[derive(Debug, Clone, Copy)]
struct Told {
    /// Data carries the quality only when it changed or is not good.
    quality: MetricQuality,
    /// The time of the last value that was told as current.
    at: u64,
}

/// So much earlier than what was told as current a value may be and still be an overtaken one, in milliseconds. What is
/// earlier by more comes from a clock that was set back, and is current all the same.
const OVERTAKEN: u64 = 5000;

impl Device {
    pub(crate) fn new(spec: DeviceSpec) -> Self {
        let told = vec![Told { quality: MetricQuality::Good, at: 0 }; spec.metrics.len()];
        Self { spec, is_up: false, is_born: false, told }
    }

    /// The same device with other metrics: it has to be born again.
    pub(crate) fn with_spec(&self, spec: DeviceSpec) -> Self {
        Self { is_up: self.is_up, ..Self::new(spec) }
    }

    pub(crate) fn birth_metrics(&mut self, snapshots: &dyn Snapshots) -> Vec<Metric> {
        let metrics = self.spec.metrics.iter().zip(&mut self.told).map(|(spec, told)| {
            let now = snapshots.snapshot(spec.alias);
            *told = Told { quality: now.quality, at: now.timestamp };
            let mut properties = quality_properties(&now);
            for (key, value) in &spec.properties {
                push_property(&mut properties, key, value);
            }
            let mut metric = metric(spec, now);
            metric.name = Some(spec.name.clone());
            metric.datatype = Some(spec.data_type.code());
            metric.properties = Some(properties);
            metric
        });
        metrics.collect()
    }

    /// Data carries the alias alone, no datatype, and its quality only when that is news. A value that a birth or a newer one
    /// has overtaken is historical.
    pub(crate) fn data_metric(&mut self, datum: Datum<'_>) -> Option<Metric> {
        let spec = self.spec.metrics.get(datum.metric)?;
        let told = self.told.get_mut(datum.metric)?;
        let is_news = datum.now.quality != told.quality || datum.now.quality != MetricQuality::Good;
        let properties = is_news.then(|| quality_properties(&datum.now));
        let is_overtaken = told.at.checked_sub(datum.now.timestamp).is_some_and(|ahead| ahead < OVERTAKEN);
        let is_historical = datum.is_historical || is_overtaken;
        if !is_historical {
            *told = Told { quality: datum.now.quality, at: datum.now.timestamp };
        }
        let mut metric = metric(spec, datum.now);
        metric.properties = properties;
        metric.is_historical = is_historical.then_some(true);
        Some(metric)
    }
}

/// A metric with its value in the field of its datatype; what does not fit it becomes null.
fn metric(spec: &MetricSpec, now: Snapshot<'_>) -> Metric {
    let value = now.value.and_then(|value| encode_value(spec.data_type, value).ok());
    Metric {
        alias: Some(spec.alias),
        timestamp: Some(now.timestamp),
        is_null: value.is_none().then_some(true),
        value,
        ..Metric::default()
    }
}

fn quality_properties(now: &Snapshot<'_>) -> PropertySet {
    let mut properties = PropertySet::default();
    push_property(&mut properties, "Quality", &MetricValue::Int(now.quality.code().into()));
    if let Some(reason) = &now.reason {
        push_property(&mut properties, "qualityReason", &MetricValue::Text(reason.as_str().into()));
    }
    properties
}

/// Properties are booleans, Int32, doubles or strings here; anything else is passed over.
fn push_property(properties: &mut PropertySet, key: &str, value: &MetricValue<'_>) {
    use property_value::Value;
    let (data_type, value) = match value {
        MetricValue::Bool(bit) => (DataType::Boolean, Value::BooleanValue(*bit)),
        MetricValue::Int(int) => match i32::try_from(*int) {
            Ok(int) => (DataType::Int32, Value::IntValue(int.cast_unsigned())),
            Err(_) => return,
        },
        MetricValue::Double(float) => (DataType::Double, Value::DoubleValue(*float)),
        MetricValue::Text(text) => (DataType::String, Value::StringValue(text.clone().into_owned())),
        MetricValue::Uint(_) | MetricValue::Float(_) => return,
    };
    properties.keys.push(key.to_owned());
    properties.values.push(PropertyValue { r#type: Some(data_type.code()), is_null: None, value: Some(value) });
}
