use crate::carried::{encode_text, is_carried};
use crate::metric::{MetricQuality, ValueError};
use crate::proto::{Metric, PropertySet, PropertyValue, metric, property_value};
use crate::{DataType, MetricValue, encode_value};
use std::borrow::Cow;
use std::hash::{DefaultHasher, Hash, Hasher};

/// A device of the node, as its birth announces it.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceSpec {
    /// Device id.
    pub id: String,
    /// Its metrics.
    pub metrics: Vec<MetricSpec>,
}

/// What is kept of a metric of a device: what births say of it beside is asked for when they are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MetricSpec {
    /// Alias, unique in the node: data messages carry it in place of the name.
    pub alias: u64,
    /// Its datatype, the same in every birth.
    pub data_type: DataType,
    /// Whether hosts may command it.
    pub is_writable: bool,
}

/// Properties of a metric with a text or a number, such as the engineering unit.
pub type MetricProperties<'a> = Vec<(&'static str, MetricValue<'a>)>;

/// The state of a metric when a birth is made.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapshot<'a> {
    /// The current value; `None` becomes null.
    pub value: Option<MetricValue<'a>>,
    /// Its quality.
    pub quality: MetricQuality,
    /// Why the quality is not good.
    pub reason: Option<String>,
    /// What the time is worth, where something is to be said of that.
    pub time_quality: Option<&'static str>,
    /// When the value arose, in milliseconds since 1970 UTC.
    pub timestamp: u64,
    /// When it arrived here, by the clock of this side, in milliseconds since 1970 UTC.
    pub arrived: u64,
}

/// Where births take from what is not kept between them.
pub trait Snapshots {
    /// The state of a metric, by its alias.
    fn snapshot(&self, alias: u64) -> Snapshot<'_>;

    /// The name of a metric, unique in its device, by its alias.
    fn name(&self, alias: u64) -> Cow<'_, str>;

    /// What is told of a metric beside its value, by its alias.
    fn properties(&self, alias: u64) -> MetricProperties<'_>;
}

/// One changed metric.
#[derive(Debug, Clone, PartialEq)]
pub struct Datum<'a> {
    /// Which metric of the device, by position in its [`DeviceSpec`].
    pub metric: usize,
    /// What it became.
    pub now: Snapshot<'a>,
    /// How it stands to what was told before.
    pub standing: Standing,
}

/// How a changed metric stands to what was told before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// It is the current value. One that arrived before what the birth told is told as historical.
    Current,
    /// A change that the device told in its order, with a time of its own. One that is earlier than what was told as current, or
    /// more than two seconds later than its arrival where the device vouches for its times, is told as historical, and where no newer one comes with it, follows as the current value at the time of its arrival.
    Event,
    /// It was kept during an outage, or had back from a memory of the device.
    Historical,
}

/// A device with what the session must remember of it.
#[derive(Debug)]
pub(crate) struct Device {
    pub(crate) id: String,
    pub(crate) is_up: bool,
    pub(crate) is_born: bool,
    /// Stands for the names and properties that its last birth has told, if there was one.
    told_words: Option<u64>,
    metrics: Vec<Told>,
}

/// A metric, and what went out of it last: in 32 bytes.
#[derive(Debug, Clone, Copy)]
struct Told {
    alias: u64,
    data_type: DataType,
    is_writable: bool,
    /// Data carries the quality only when it changed, is not good, or has a reason.
    quality: MetricQuality,
    has_reason: bool,
    /// The time of the last value that was told as current.
    at: u64,
    /// When the value arrived that the birth told.
    birth: u64,
}

const _: () = assert!(size_of::<Told>() <= 32);

/// So much earlier than what the birth told a value may have arrived and still be an overtaken one, in milliseconds. What is
/// earlier by more arrived when the clock of this side had been set back, and is current all the same.
const OVERTAKEN: u64 = 5000;

/// So far a time of the field may be ahead of the clock of this side, in milliseconds: beyond that one of them is wrong.
const AHEAD: u64 = 2000;
/// What the time of a value is worth that follows at the time of its arrival.
const ARRIVAL: &str = "arrival";

fn is_ahead(timestamp: u64, arrived: u64) -> bool {
    arrived != 0 && timestamp.saturating_sub(arrived) > AHEAD
}

impl Told {
    const fn new(MetricSpec { alias, data_type, is_writable }: MetricSpec) -> Self {
        Self { alias, data_type, is_writable, quality: MetricQuality::Good, has_reason: false, at: 0, birth: 0 }
    }

    const fn spec(&self) -> MetricSpec {
        let Self { alias, data_type, is_writable, .. } = *self;
        MetricSpec { alias, data_type, is_writable }
    }

    /// Births are told past what waits to be told: whether a value is older than what its birth has told. The clocks of devices have
    /// no say in that.
    fn has_overtaken(&self, now: &Snapshot<'_>) -> bool {
        let ahead = self.birth.checked_sub(now.arrived);
        ahead.is_some_and(|ahead| ahead < OVERTAKEN && (ahead > 0 || now.timestamp <= self.at))
    }
}

impl Device {
    pub(crate) fn new(DeviceSpec { id, metrics }: DeviceSpec) -> Self {
        let metrics = metrics.into_iter().map(Told::new).collect();
        Self { id, is_up: false, is_born: false, told_words: None, metrics }
    }

    /// Its metrics, in their order.
    pub(crate) fn metrics(&self) -> impl ExactSizeIterator<Item = MetricSpec> + '_ {
        self.metrics.iter().map(Told::spec)
    }

    /// Whether a birth would announce the same as the last one has.
    pub(crate) fn is_announced_as(&self, spec: &DeviceSpec, snapshots: &dyn Snapshots) -> bool {
        let told = || {
            let mut told = DefaultHasher::new();
            for MetricSpec { alias, .. } in &spec.metrics {
                stand_for(&snapshots.name(*alias), &snapshots.properties(*alias), &mut told);
            }
            told.finish()
        };
        let is_same = self.id == spec.id && self.metrics().eq(spec.metrics.iter().copied());
        is_same && self.told_words.is_none_or(|words| words == told())
    }

    /// The same device with other metrics: it has to be born again.
    pub(crate) fn with_spec(&self, spec: DeviceSpec) -> Self {
        Self { is_up: self.is_up, ..Self::new(spec) }
    }

    pub(crate) fn birth_metrics(&mut self, snapshots: &dyn Snapshots) -> Vec<Metric> {
        let mut told_words = DefaultHasher::new();
        let metrics = self.metrics.iter_mut().map(|told| {
            let spec = told.spec();
            let Snapshot { value, quality, reason, time_quality, timestamp, arrived } = snapshots.snapshot(spec.alias);
            // A clock that is ahead would make history of all that follows.
            let is_ahead = time_quality.is_some() && is_ahead(timestamp, arrived);
            let timestamp = if is_ahead { arrived } else { timestamp };
            let (value, quality, reason) = encoded(spec, value, quality, reason);
            *told = Told { quality, has_reason: reason.is_some(), at: timestamp, birth: arrived, ..*told };
            let mut properties = quality_properties(quality, reason.as_deref(), time_quality);
            let (name, own) = (snapshots.name(spec.alias), snapshots.properties(spec.alias));
            stand_for(&name, &own, &mut told_words);
            own.iter().for_each(|(key, value)| push_property(&mut properties, key, value));
            Metric {
                name: Some(name.into_owned()),
                alias: Some(spec.alias),
                timestamp: Some(timestamp),
                datatype: Some(spec.data_type.code()),
                is_null: value.is_none().then_some(true),
                properties: Some(properties),
                value,
                ..Metric::default()
            }
        });
        let metrics = metrics.collect();
        self.told_words = Some(told_words.finish());
        metrics
    }

    /// Data carries the alias alone, no datatype, and its quality only when that is news. A value that a birth or a newer one
    /// has overtaken is historical.
    pub(crate) fn data_metrics<'a>(&mut self, data: impl IntoIterator<Item = Datum<'a>>) -> Vec<Metric> {
        // The newest states that were told as historical, and have to follow.
        let mut behind: Vec<(usize, Snapshot<'a>)> = Vec::new();
        let data = data.into_iter();
        let mut metrics = Vec::with_capacity(data.size_hint().0);
        for Datum { metric, now, standing } in data {
            let Some(told) = self.metrics.get(metric) else { continue };
            let is_historical = match standing {
                Standing::Historical => true,
                Standing::Current => told.has_overtaken(&now),
                // Changes of one millisecond stay what they are, in their order; but not where a birth has told them.
                Standing::Event => {
                    let is_told = now.timestamp == told.at && told.has_overtaken(&now);
                    let is_ahead = now.time_quality.is_some() && is_ahead(now.timestamp, now.arrived);
                    now.timestamp < told.at || is_told || is_ahead
                }
            };
            if standing != Standing::Historical && !behind.is_empty() {
                behind.retain(|(other, _)| *other != metric);
            }
            if standing == Standing::Event && is_historical {
                let (timestamp, time_quality) = (now.arrived, now.time_quality.map(|_| ARRIVAL));
                behind.push((metric, Snapshot { timestamp, time_quality, ..now.clone() }));
            }
            self.push_data(metric, now, is_historical, &mut metrics);
        }
        for (metric, now) in behind {
            self.push_data(metric, now, false, &mut metrics);
        }
        metrics
    }

    /// Metrics are large: each is made where it stays.
    #[inline]
    fn push_data(&mut self, place: usize, now: Snapshot<'_>, is_historical: bool, metrics: &mut Vec<Metric>) {
        let Some(told) = self.metrics.get_mut(place) else { return };
        let spec = told.spec();
        let (value, quality, reason) = encoded(spec, now.value, now.quality, now.reason);
        let is_other = quality != told.quality || quality != MetricQuality::Good || reason.is_some() || told.has_reason;
        let is_news = is_other || now.time_quality.is_some();
        if !is_historical {
            (told.quality, told.has_reason, told.at) = (quality, reason.is_some(), now.timestamp);
        }
        metrics.push(Metric {
            alias: Some(spec.alias),
            timestamp: Some(now.timestamp),
            is_null: value.is_none().then_some(true),
            is_historical: is_historical.then_some(true),
            properties: is_news.then(|| quality_properties(quality, reason.as_deref(), now.time_quality)),
            value,
            ..Metric::default()
        });
    }
}

/// What cannot be told in the datatype of its metric.
const OTHER_TYPE: &str = "the value is not of the datatype that was announced";

/// A value in the field of its datatype. One that does not fit there is told as bad, never as a null that is good.
#[inline]
fn encoded(
    spec: MetricSpec,
    value: Option<MetricValue<'_>>,
    quality: MetricQuality,
    reason: Option<String>,
) -> (Option<metric::Value>, MetricQuality, Option<String>) {
    match value {
        None => (None, quality, reason),
        Some(value) => match encode(spec.data_type, value) {
            Ok(value) => (value, quality, reason),
            Err(_) => (None, MetricQuality::Bad, Some(OTHER_TYPE.to_owned())),
        },
    }
}

/// What is told; none for a moment that Sparkplug cannot tell.
#[inline]
fn encode(data_type: DataType, value: MetricValue<'_>) -> Result<Option<metric::Value>, ValueError> {
    match value {
        MetricValue::Text(text) if is_carried(data_type) => encode_text(data_type, &text),
        other => encode_value(data_type, other).map(Some),
    }
}

/// What stands for the names and properties of one metric after another.
fn stand_for(name: &str, properties: &MetricProperties<'_>, told: &mut DefaultHasher) {
    (name, properties.len()).hash(told);
    for (key, value) in properties {
        key.hash(told);
        match value {
            MetricValue::Bool(bit) => bit.hash(told),
            MetricValue::Int(int) => int.hash(told),
            MetricValue::Uint(uint) => uint.hash(told),
            MetricValue::Float(float) => float.to_bits().hash(told),
            MetricValue::Double(float) => float.to_bits().hash(told),
            MetricValue::Text(text) => text.hash(told),
        }
    }
}

fn quality_properties(quality: MetricQuality, reason: Option<&str>, time_quality: Option<&'static str>) -> PropertySet {
    let mut properties = PropertySet::default();
    push_property(&mut properties, "Quality", &MetricValue::Int(quality.code().into()));
    if let Some(reason) = reason {
        push_property(&mut properties, "qualityReason", &MetricValue::Text(reason.into()));
    }
    if let Some(word) = time_quality {
        push_property(&mut properties, "timeQuality", &MetricValue::Text(word.into()));
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
