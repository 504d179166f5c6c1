//! Between samples and Sparkplug metrics.

use crate::points::{PointInfo, PointTable};
use interlex_core::{DataType, LatestTable, PointIndex, Quality, Reason, Timestamp, Value};
use interlex_sparkplug::{
    DataType as MetricType, DeviceSpec, MetricQuality, MetricSpec, MetricValue, Snapshot, Snapshots,
};
use std::borrow::Cow;
use std::sync::Arc;

/// What the birth of the device in a slot announces; the alias of a point is its index. `None` without a device. Hosts
/// may write what can be written, if they may command at all.
pub(crate) fn device_spec(points: &PointTable, slot: usize, takes_commands: bool) -> Option<DeviceSpec> {
    let id = points.device(slot)?.to_owned();
    let metrics = points.of_slot(slot).iter().map(|info| metric_spec(info, takes_commands)).collect();
    Some(DeviceSpec { id, metrics })
}

fn metric_spec(info: &PointInfo, takes_commands: bool) -> MetricSpec {
    let text = |text: &str| MetricValue::Text(Cow::Owned(text.to_owned()));
    let mut properties = Vec::new();
    if !info.settings().unit.is_empty() {
        properties.push(("unit", text(&info.settings().unit)));
    }
    if !info.settings().title.is_empty() {
        properties.push(("description", text(&info.settings().title)));
    }
    properties.extend(info.settings().low.map(|low| ("low", MetricValue::Double(low))));
    properties.extend(info.settings().high.map(|high| ("high", MetricValue::Double(high))));
    let (name, alias) = (info.name().to_owned(), u64::from(info.index.0));
    let is_writable = takes_commands && info.is_writable();
    if is_writable {
        properties.push(("access", text("read-write")));
    }
    MetricSpec { name, alias, data_type: data_type_of(info), is_writable, properties }
}

/// The datatype of a point's metric: that of the device, or Double once it is scaled.
pub(crate) fn data_type_of(info: &PointInfo) -> MetricType {
    match info.value_type {
        DataType::Bool => MetricType::Boolean,
        DataType::String(_) => MetricType::String,
        DataType::Int16 => MetricType::Int16,
        DataType::Uint16 | DataType::Bcd16 => MetricType::UInt16,
        DataType::Int32 => MetricType::Int32,
        DataType::Uint32 | DataType::Bcd32 => MetricType::UInt32,
        DataType::Int64 => MetricType::Int64,
        DataType::Uint64 => MetricType::UInt64,
        DataType::Float32 => MetricType::Float,
        DataType::Auto | DataType::Float64 => MetricType::Double,
    }
}

/// A value as Sparkplug says it. A bad one has no value; its reason goes along in words.
pub(crate) fn snapshot_of(value: Option<&Value>, quality: Quality, source_time: Timestamp) -> Snapshot<'static> {
    let value = value.filter(|_| !quality.is_bad()).map(|value| match value {
        Value::Bool(bit) => MetricValue::Bool(*bit),
        Value::Int(int) => MetricValue::Int(*int),
        Value::Uint(uint) => MetricValue::Uint(*uint),
        Value::Float32(float) => MetricValue::Float(*float),
        Value::Float64(float) => MetricValue::Double(*float),
        Value::Text(text) => MetricValue::Text(Cow::Owned(text.to_string())),
    });
    // Sparkplug knows good, bad and stale only. What is uncertain is told as bad, with its value and the reason.
    let metric_quality = match quality {
        Quality::Good => MetricQuality::Good,
        Quality::Uncertain(Reason::Stale) | Quality::Bad(Reason::Stale) => MetricQuality::Stale,
        Quality::Uncertain(_) | Quality::Bad(_) => MetricQuality::Bad,
    };
    let reason = (!quality.is_good()).then(|| quality.to_string());
    Snapshot { value, quality: metric_quality, reason, timestamp: source_time.as_unsigned_millis() }
}

/// Births take their values from the latest-value table.
pub(crate) struct Current {
    pub(crate) latest: Arc<LatestTable>,
    pub(crate) now: Timestamp,
}

impl Snapshots for Current {
    fn snapshot(&self, alias: u64) -> Snapshot<'_> {
        let reading = u32::try_from(alias).ok().and_then(|index| self.latest.read(PointIndex(index)));
        match reading {
            Some(reading) if reading.version > 0 => {
                snapshot_of(reading.value.as_ref(), reading.quality, reading.source_time)
            }
            _ => snapshot_of(None, Quality::Bad(Reason::NeverRead), self.now),
        }
    }
}
