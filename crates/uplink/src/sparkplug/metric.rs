//! Between samples and Sparkplug metrics.

use super::alias::{FIRST_OWN_ALIAS, FIRST_RESULT_ALIAS};
use super::health::HealthMetric;
use crate::session::Base;
use crate::start::ReasonWords;
use interlex_core::description::Selection;
use interlex_core::{
    DataType, ElementType, LatestTable, PointIndex, PointInfo, PointTable, Quality, Reason, Sample, Timestamp, Value,
};
use interlex_sparkplug::{
    DataType as MetricType, DeviceSpec, MetricProperties, MetricQuality, MetricSpec, MetricValue, Snapshot, Snapshots,
};
use std::borrow::Cow;
use std::collections::HashMap;
use std::num::NonZeroU32;
use std::sync::Arc;

/// The metric of a device that tells what became of the last command.
const RESULT: &str = "command/result";

/// What an uplink announces: which points, and where they stand in the births.
#[derive(Debug, Default)]
pub(crate) struct Announced {
    /// By slot.
    slots: Vec<Vec<PointIndex>>,
    /// By index: the place among the metrics of its device, from one.
    places: Vec<Option<NonZeroU32>>,
}

impl Announced {
    pub(crate) fn new(points: &PointTable, selection: Option<&Selection>) -> Self {
        let mut announced = Self { slots: vec![Vec::new(); points.slots()], places: vec![None; points.indices()] };
        for slot in 0..points.slots() {
            announced.renew(points, slot, selection);
        }
        announced
    }

    /// Looks anew at what is announced of the device in a slot. A point whose type is not known yet is not announced: hosts
    /// would believe another one.
    pub(crate) fn renew(&mut self, points: &PointTable, slot: usize, selection: Option<&Selection>) {
        let Some(announced) = self.slots.get_mut(slot) else { return };
        announced.clear();
        announced.reserve_exact(points.of_slot(slot).len());
        for info in points.of_slot(slot) {
            let Some(place) = self.places.get_mut(info.index.position()) else { continue };
            let is_chosen = selection.is_none_or(|selection| selection.takes(info.device(), info.settings()));
            let is_announced = is_chosen && info.value_type().is_some();
            if is_announced {
                announced.push(info.index);
            }
            *place = u32::try_from(announced.len()).ok().and_then(NonZeroU32::new).filter(|_| is_announced);
        }
    }

    /// The place of a point among the metrics of its device; `None` when it does not go up here.
    pub(crate) fn place(&self, point: PointIndex) -> Option<usize> {
        let place = (*self.places.get(point.position())?)?;
        usize::try_from(place.get() - 1).ok()
    }

    /// The point at a place of a device.
    pub(crate) fn point(&self, slot: usize, place: usize) -> Option<PointIndex> {
        self.slots.get(slot)?.get(place).copied()
    }

    /// The place of a device's result of commands.
    pub(crate) fn result_place(&self, slot: usize) -> Option<usize> {
        self.slots.get(slot).map(Vec::len)
    }

    /// What the birth of the device in a slot announces; `None` when nothing of it goes up. Hosts may write what can be
    /// written, if they may command at all.
    pub(crate) fn spec(&self, points: &PointTable, slot: usize, takes_commands: bool) -> Option<DeviceSpec> {
        let id = points.device(slot)?.to_owned();
        let indices = self.slots.get(slot).filter(|indices| !indices.is_empty())?;
        // One more for the result of commands; what is not needed is given back.
        let mut metrics = Vec::with_capacity(indices.len() + 1);
        let infos = indices.iter().filter_map(|index| points.get(*index));
        metrics.extend(infos.filter_map(|info| metric_spec(info, takes_commands)));
        if metrics.iter().any(|metric| metric.is_writable) {
            metrics.push(MetricSpec {
                alias: FIRST_RESULT_ALIAS + slot as u64,
                data_type: MetricType::String,
                is_writable: false,
            });
        }
        Some(DeviceSpec { id, metrics })
    }
}

fn metric_spec(info: &PointInfo, takes_commands: bool) -> Option<MetricSpec> {
    let is_writable = takes_commands && info.takes_commands();
    let data_type = data_type_of(info.value_type()?);
    Some(MetricSpec { alias: info.index.0.into(), data_type, is_writable })
}

/// What is told of a point beside its value.
fn properties_of(info: &PointInfo, takes_commands: bool) -> MetricProperties<'static> {
    let text = |text: &str| MetricValue::Text(Cow::Owned(text.to_owned()));
    let mut properties = Vec::new();
    let point = info.point();
    let settings = &point.settings;
    if !settings.unit.is_empty() {
        properties.push(("unit", text(&settings.unit)));
    }
    if !settings.title.is_empty() {
        properties.push(("description", text(&settings.title)));
    }
    properties.extend(settings.low.map(|low| ("low", MetricValue::Double(low))));
    properties.extend(settings.high.map(|high| ("high", MetricValue::Double(high))));
    if let Some(DataType::Array(array)) = info.value_type() {
        let lengths: Vec<_> = array.dimensions().map(|length| length.to_string()).collect();
        if !lengths.is_empty() {
            properties.push(("dimensions", text(&lengths.join(","))));
        }
    }
    if takes_commands && info.takes_commands() {
        properties.push(("access", text("read-write")));
    }
    properties
}

/// The datatype of the metric of a point whose values are of a type.
pub(crate) const fn data_type_of(value_type: DataType) -> MetricType {
    match value_type {
        DataType::Bool => MetricType::Boolean,
        DataType::String(_) | DataType::Latin1(_) => MetricType::String,
        DataType::Int8 => MetricType::Int8,
        DataType::Uint8 => MetricType::UInt8,
        DataType::Int16 => MetricType::Int16,
        DataType::Uint16 | DataType::Bcd16 => MetricType::UInt16,
        DataType::Int32 => MetricType::Int32,
        DataType::Uint32 | DataType::Bcd32 => MetricType::UInt32,
        DataType::Int64 => MetricType::Int64,
        DataType::Uint64 | DataType::Bcd64 => MetricType::UInt64,
        DataType::Float16 | DataType::Float32 => MetricType::Float,
        DataType::Auto | DataType::Float64 => MetricType::Double,
        DataType::DateTime => MetricType::DateTime,
        DataType::Uuid => MetricType::UUID,
        DataType::Bytes => MetricType::Bytes,
        DataType::Array(array) => match array.element {
            ElementType::Bool => MetricType::BooleanArray,
            ElementType::Int8 => MetricType::Int8Array,
            ElementType::Uint8 => MetricType::UInt8Array,
            ElementType::Int16 => MetricType::Int16Array,
            ElementType::Uint16 => MetricType::UInt16Array,
            ElementType::Int32 => MetricType::Int32Array,
            ElementType::Uint32 => MetricType::UInt32Array,
            ElementType::Int64 => MetricType::Int64Array,
            ElementType::Uint64 => MetricType::UInt64Array,
            ElementType::Float32 => MetricType::FloatArray,
            ElementType::Float64 => MetricType::DoubleArray,
            ElementType::String => MetricType::StringArray,
            ElementType::DateTime => MetricType::DateTimeArray,
        },
    }
}

/// A value as Sparkplug says it. A bad one has no value; its reason goes along in words.
pub(crate) fn snapshot_of(
    value: Option<&Value>,
    quality: Quality,
    (source_time, gateway_time): (Timestamp, Timestamp),
    words: ReasonWords,
) -> Snapshot<'static> {
    let value = value.filter(|_| !quality.is_bad()).map(|value| match value {
        Value::Bool(bit) => MetricValue::Bool(*bit),
        Value::Int(int) => MetricValue::Int(*int),
        Value::Uint(uint) => MetricValue::Uint(*uint),
        Value::Float32(float) => MetricValue::Float(*float),
        Value::Float64(float) => MetricValue::Double(*float),
        Value::Text(text) => MetricValue::Text(Cow::Owned(text.to_string())),
    });
    // Sparkplug knows good, bad and stale only. What is uncertain for another reason is told as bad, with its value and the reason.
    let metric_quality = match quality {
        Quality::Good | Quality::Noted(_) => MetricQuality::Good,
        Quality::Uncertain(Reason::Stale) | Quality::Bad(Reason::Stale) => MetricQuality::Stale,
        Quality::Uncertain(_) | Quality::Bad(_) => MetricQuality::Bad,
    };
    let reason = quality.reason().map(|reason| format!("{}: {}", quality.class(), words(reason)));
    let (timestamp, arrived) = (source_time.as_unsigned_millis(), gateway_time.as_unsigned_millis());
    Snapshot { value, quality: metric_quality, reason, time_quality: None, timestamp, arrived }
}

/// Something that is well and known.
pub(crate) fn told(value: MetricValue<'static>, now: Timestamp) -> Snapshot<'static> {
    let timestamp = now.as_unsigned_millis();
    let (quality, time_quality) = (MetricQuality::Good, None);
    Snapshot { value: Some(value), quality, reason: None, time_quality, timestamp, arrived: timestamp }
}

/// Births take their values from the latest-value table, and from what the gateway knows of itself.
#[derive(Debug)]
pub(crate) struct Sources {
    pub(super) latest: Arc<LatestTable>,
    pub(super) health: Vec<HealthMetric>,
    /// What became of the last command of a device, by slot.
    pub(super) results: HashMap<usize, Arc<str>>,
    pub(super) words: ReasonWords,
}

impl Sources {
    /// As things are now.
    pub(super) fn current<'a>(&'a self, base: &'a Base<Sample>, now: Timestamp) -> Current<'a> {
        let takes_commands = base.uplink.broker.commands;
        Current { points: &base.backlog.context, takes_commands, sources: self, now }
    }
}

/// What births tell now.
pub(super) struct Current<'a> {
    points: &'a PointTable,
    takes_commands: bool,
    sources: &'a Sources,
    now: Timestamp,
}

impl Current<'_> {
    /// Something that the gateway tells of itself, by its alias.
    fn own(&self, alias: u64) -> Option<&HealthMetric> {
        self.sources.health.get(usize::try_from(alias.checked_sub(FIRST_OWN_ALIAS)?).ok()?)
    }

    /// A point, by its alias.
    fn info(&self, alias: u64) -> Option<&PointInfo> {
        self.points.get(PointIndex(u32::try_from(alias).ok()?))
    }

    /// What the gateway knows of itself: whatever it tells later is newer.
    fn of_ours(&self, value: MetricValue<'static>) -> Snapshot<'static> {
        Snapshot { arrived: 0, ..told(value, self.now) }
    }

    /// Whatever arrives of it is newer.
    fn never_read(&self) -> Snapshot<'static> {
        snapshot_of(None, Quality::Bad(Reason::NeverRead), (self.now, Timestamp::from_millis(0)), self.sources.words)
    }
}

impl Snapshots for Current<'_> {
    fn snapshot(&self, alias: u64) -> Snapshot<'_> {
        if let Some(slot) = alias.checked_sub(FIRST_RESULT_ALIAS) {
            let result = usize::try_from(slot).ok().and_then(|slot| self.sources.results.get(&slot));
            let words = result.map_or_else(String::new, ToString::to_string);
            return self.of_ours(MetricValue::Text(Cow::Owned(words)));
        }
        if alias >= FIRST_OWN_ALIAS {
            return self.own(alias).map_or_else(|| self.never_read(), |metric| self.of_ours(metric.value.clone()));
        }
        let reading = u32::try_from(alias).ok().and_then(|index| self.sources.latest.read(PointIndex(index)));
        match reading {
            // What was forgotten was read at no time that could be told.
            Some(reading) if reading.quality != Quality::Bad(Reason::NeverRead) => {
                let times = (reading.source_time, reading.gateway_time);
                let told = snapshot_of(reading.value.as_ref(), reading.quality, times, self.sources.words);
                Snapshot { time_quality: reading.time_quality.word(), ..told }
            }
            _ => self.never_read(),
        }
    }

    fn name(&self, alias: u64) -> Cow<'_, str> {
        let name = match alias {
            FIRST_RESULT_ALIAS.. => Some(RESULT),
            FIRST_OWN_ALIAS.. => self.own(alias).map(|metric| metric.name.as_str()),
            _ => self.info(alias).map(PointInfo::name),
        };
        name.unwrap_or_default().into()
    }

    fn properties(&self, alias: u64) -> MetricProperties<'_> {
        if let Some(metric) = self.own(alias) {
            let unit = Some(metric.unit).filter(|unit| !unit.is_empty());
            return unit.map(|unit| ("unit", MetricValue::Text(unit.into()))).into_iter().collect();
        }
        self.info(alias).map_or_else(Vec::new, |info| properties_of(info, self.takes_commands))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::description::{Files, read};

    #[test]
    fn births_announce_what_is_chosen_and_tell_of_commands_where_some_are_taken() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                    \"h\"\n[[device]]\nname = \"pump\"\nlink = \"l\"\nunit = 1\n[[device]]\nname = \"meter\"\nlink = \"l\"\nunit = 2\n";
        let pump = "name,address,type,rate,unit,access\nspeed,holding:0,uint16,r,%,read-write\nkey,holding:1,uint16,r,,read-write-local\n";
        let meter = "name,address,type,rate,unit,access\npower,holding:0,uint16,r,kW,read\n";
        let files: Files = [("gateway.toml", main), ("points/pump.csv", pump), ("points/meter.csv", meter)]
            .map(|(path, text)| (path.to_owned(), text.to_owned()))
            .into();
        let points = PointTable::new(&read(&files).unwrap(), &PointTable::default());
        let told = |selection: Option<&str>, takes_commands| {
            let selection = selection.map(|text| text.parse().unwrap());
            let announced = Announced::new(&points, selection.as_ref());
            let (latest, health, results) = (Arc::new(LatestTable::new(0)), Vec::new(), HashMap::new());
            let sources = Sources { latest, health, results, words: |reason| format!("{reason:?}") };
            let now = Timestamp::from_millis(5);
            let current = Current { points: &points, takes_commands, sources: &sources, now };
            let words = |spec: DeviceSpec| {
                let name = |alias| current.name(alias).into_owned();
                let metrics = spec.metrics.iter();
                let names = metrics.map(|spec| name(spec.alias) + if spec.is_writable { "!" } else { "" });
                format!("{}: {}", spec.id, names.collect::<Vec<_>>().join(" "))
            };
            (0..2).filter_map(|slot| announced.spec(&points, slot, takes_commands)).map(words).collect::<Vec<_>>()
        };
        assert_eq!(told(None, true), ["pump: speed! key command/result", "meter: power"]);
        assert_eq!(told(None, false), ["pump: speed key", "meter: power"]);
        assert_eq!(told(Some("unit:kW"), true), ["meter: power"], "a device of which nothing goes up is not told");
        assert_eq!(told(Some("name:key"), true), ["pump: key"]);
        let announced = Announced::new(&points, Some(&"name:key,power".parse().unwrap()));
        let key = points.find("pump", "key").unwrap().index;
        assert_eq!(
            (announced.place(key), announced.point(0, 0), announced.result_place(0)),
            (Some(0), Some(key), Some(1))
        );
        assert_eq!(announced.place(points.find("pump", "speed").unwrap().index), None);
    }
}
