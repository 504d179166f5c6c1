use super::events::{EventMemory, Judged, Place};
use super::mapping::{described, flag_words, kind, quality, state, value};
use crate::link::{Memories, PlannedDevice, ToldEvent};
use foldhash::fast::RandomState;
use interlex_core::description::{Dnp3Address, Dnp3Confirm, Dnp3Device, Dnp3Link, Dnp3Point, Dnp3TimeSync};
use interlex_core::{DataType, PointIndex, Quality, RawSample, Reason, SampleKind, TimeQuality, Timestamp};
use interlex_dnp3::{
    Assignments, Block, Classes, Flags, LinkAddress, Master, MasterConfig, Measurement, Number, Object, TimeSync,
    Variation,
};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

/// An outstation as a device of the link.
#[derive(Debug)]
pub(super) struct Station {
    /// Its place on the link.
    pub(super) place: usize,
    pub(super) address: LinkAddress,
    /// Our address, as it knows it.
    pub(super) own: LinkAddress,
    pub(super) planned: PlannedDevice,
    points: HashMap<Place, Vec<(PointIndex, DataType)>, RandomState>,
    pub(super) is_up: bool,
    pub(super) is_silent: bool,
    /// Points that it told since the connection came up.
    told: HashSet<PointIndex, RandomState>,
    /// Under which name its events are kept.
    pub(super) source: Arc<str>,
    /// Events that it told last: what it tells again is known by them.
    pub(super) memory: Arc<EventMemory>,
    /// Whether somebody keeps its events.
    is_kept: bool,
    /// Whether its events are to be safe before it forgets them.
    pub(super) is_stored: bool,
    /// When its points were last said to be as they were.
    pub(super) confirmed: Option<tokio::time::Instant>,
}

impl Station {
    /// A device of the plan, where it is one of DNP3.
    pub(super) fn new(place: usize, planned: &PlannedDevice, target: &str, memories: &Memories) -> Option<Self> {
        let own = planned.device.protocol.dnp3()?;
        let source: Arc<str> = format!("dnp3 {target} {}", own.address).into();
        let mut points: HashMap<Place, Vec<_>, RandomState> = HashMap::default();
        for (index, point) in planned.points.iter().zip(&*planned.device.points) {
            let Some((address, _)) = point.dnp3() else { continue };
            points.entry((kind(address.kind), address.index.into())).or_default().push((*index, point.raw_type()));
        }
        Some(Self {
            place,
            address: LinkAddress(own.address),
            own: LinkAddress(own.master_address),
            planned: planned.clone(),
            points,
            is_up: false,
            is_silent: false,
            told: HashSet::default(),
            memory: memories.of(&source),
            is_kept: memories.keeper().is_some(),
            source,
            is_stored: own.confirm == Dnp3Confirm::Stored,
            confirmed: None,
        })
    }

    /// Whether another description of it is asked and told in the same way.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        let name = |station: &Self| station.planned.device.settings.name.clone();
        name(self) == name(other)
            && self.planned.device.protocol == other.planned.device.protocol
            && self.planned.device.points == other.planned.device.points
            && self.planned.points == other.planned.points
    }

    /// The same outstation by another description of it.
    pub(super) fn redescribed(self, other: Self) -> Self {
        Self { place: other.place, planned: other.planned, ..self }
    }

    pub(super) fn name(&self) -> &str {
        self.planned.device.settings.name.as_str()
    }

    /// The name that the certificate of whoever speaks for it has to be for, where that is bound.
    pub(super) fn certificate_name(&self) -> Option<&str> {
        self.planned.device.protocol.dnp3()?.certificate_name.as_deref()
    }

    /// Whether its clock is set whatever is known of ours.
    pub(super) fn sets_clock_anyway(&self) -> bool {
        self.planned.device.protocol.dnp3().is_some_and(|own| own.time_anyway)
    }

    /// Whether its points are as it told them last.
    pub(super) const fn is_fresh(&self) -> bool {
        self.is_up && !self.is_silent
    }

    /// Everything begins anew.
    pub(super) fn begin_anew(&mut self) {
        (self.is_up, self.is_silent, self.confirmed) = (false, false, None);
        self.told.clear();
    }

    /// What it told, as samples of its points and as entries of the sequence of events, without what it told before. It may have
    /// said with it that its clock is not set.
    pub(super) fn take(&mut self, measured: &[Measurement], needs_time: bool) -> Taken {
        let mut taken = Taken { samples: Vec::with_capacity(measured.len()), ..Taken::default() };
        let judged = self.memory.judge(measured, |place| self.points.contains_key(place));
        taken.repeated = judged.iter().filter(|judged| **judged == Judged::Repeated).count() as u64;
        for (told, judged) in measured.iter().zip(judged).filter(|(_, judged)| *judged != Judged::Repeated) {
            let points = self.points.get(&(told.kind, told.index)).map(Vec::as_slice).unwrap_or_default();
            let time = told.time.and_then(|time| i64::try_from(time.millis).ok()).map(Timestamp::from_millis);
            let time_quality = match told.time {
                _ if !told.is_event => TimeQuality::Unsaid,
                Some(time) if time.is_synchronized && !needs_time => TimeQuality::Synchronized,
                Some(_) => TimeQuality::Unsynchronized,
                None => TimeQuality::Arrival,
            };
            for (point, data_type) in points {
                self.told.insert(*point);
                let value = value(&told.value, *data_type);
                let quality = if value.is_none() { Quality::Bad(Reason::ProtocolError) } else { quality(told) };
                let kind = if told.is_event { SampleKind::Event } else { SampleKind::Current };
                let source_time = time;
                taken.samples.push(RawSample { point: *point, value, quality, source_time, time_quality, kind });
            }
            let Judged::New(mark) = judged else { continue };
            taken.news += 1;
            match told.time {
                Some(_) => taken.remembered.push(((told.kind, told.index), mark)),
                None => taken.untimed += 1,
            }
            if self.is_kept {
                let point = points.first();
                taken.events.push(ToldEvent {
                    point: point.map(|(point, _)| *point),
                    place: (described(told.kind).word(), Some(told.index)),
                    value: point.and_then(|(_, data_type)| value(&told.value, *data_type)),
                    raw: state(&told.value),
                    flags: (told.flags.unwrap_or(Flags::ONLINE).0, flag_words),
                    at: time,
                    time_quality,
                    mark,
                });
            }
        }
        taken
    }

    /// Points of the list that it did not tell when it was asked for all.
    pub(super) fn missing(&self) -> Vec<(PointIndex, String, Reason)> {
        let points = self.planned.points.iter().zip(&*self.planned.device.points);
        let missing = points.filter(|(index, _)| !self.told.contains(index));
        missing
            .filter_map(|(index, point)| {
                let (address, _) = point.dnp3()?;
                let reason = Reason::Dnp3 { flags: 0, group: kind(address.kind).group() };
                Some((*index, address.to_string(), reason))
            })
            .collect()
    }

    /// How it is spoken with.
    pub(super) fn master(&self, link: &Dnp3Link) -> Master {
        let own = self.planned.device.protocol.dnp3();
        own.map_or_else(|| Master::new(quiet(link)), |own| Master::new(self.config(link, own)))
    }
}

/// What is new of what an outstation told.
#[derive(Debug, Default)]
pub(super) struct Taken {
    pub(super) samples: Vec<RawSample>,
    pub(super) events: Vec<ToldEvent>,
    /// How many events are new, how many came once more, and how many had no time.
    pub(super) news: u64,
    pub(super) repeated: u64,
    pub(super) untimed: u64,
    /// The events that the memory has from now on.
    pub(super) remembered: Vec<(Place, u64)>,
}

/// A master that asks for nothing by itself.
pub(super) fn quiet(link: &Dnp3Link) -> MasterConfig {
    MasterConfig { begins: false, response_timeout: link.timeout().into(), ..MasterConfig::default() }
}

impl Station {
    /// What its points ask of the outstation: their classes and deadbands, and variations of their own.
    fn asked(&self) -> (Assignments, Vec<Block>) {
        let points = || self.planned.device.points.iter().filter_map(|point| point.dnp3());
        let at = |address: Dnp3Address, variation| {
            let variation = Variation::new(kind(address.kind).group(), variation);
            Block::range(variation, address.index.into(), address.index.into())
        };
        let mut classes = Vec::new();
        // Group 60 has class 0 as its first variation.
        for class in 0..=3_u8 {
            let of_class = points().filter(|(_, own)| own.class == Some(class)).map(|(address, _)| address);
            let runs = runs(of_class.collect());
            if !runs.is_empty() {
                classes.push(Block::all(60, class + 1));
                let of_run = |(first, last): (Dnp3Address, u16)| {
                    Block::range(Variation::new(kind(first.kind).group(), 0), first.index.into(), last.into())
                };
                classes.extend(runs.into_iter().map(of_run));
            }
        }
        let deadband = |(address, own): (Dnp3Address, &Dnp3Point)| {
            let number = Number::Float32(nearest(own.device_deadband?));
            Some(Block::in_a_row(Variation::new(34, 3), address.index.into(), [Object::Deadband(number)]))
        };
        let deadbands = points().filter_map(deadband).collect();
        let variations = points().filter_map(|(address, own)| Some(at(address, own.variation?))).collect();
        (Assignments { classes, deadbands }, variations)
    }

    fn config(&self, link: &Dnp3Link, own: &Dnp3Device) -> MasterConfig {
        let (assignments, variations) = self.asked();
        let timeout = Duration::from(link.timeout());
        MasterConfig {
            assignments,
            variations,
            begins: true,
            response_timeout: timeout,
            retries: own.retries,
            confirm_within: own.confirm_within.into(),
            // Whoever does not answer is asked as often as it would be otherwise, and not more.
            retry_period: Duration::from(own.event_period).max(timeout),
            integrity_period: Some(own.integrity_period.into()),
            event_polls: vec![(Classes::ALL, Duration::from(own.event_period).min(link.keep_alive().into()))],
            unsolicited: if own.only_asked { Classes::NONE } else { Classes::ALL },
            time_sync: match own.time_sync {
                Dnp3TimeSync::Lan => TimeSync::Lan,
                Dnp3TimeSync::NonLan => TimeSync::NonLan,
                Dnp3TimeSync::Off => TimeSync::Off,
            },
            ..MasterConfig::default()
        }
    }
}

/// Addresses that follow each other as the first of them and the index of the last.
fn runs(addresses: BTreeSet<Dnp3Address>) -> Vec<(Dnp3Address, u16)> {
    let mut runs: Vec<(Dnp3Address, u16)> = Vec::new();
    for address in addresses {
        match runs.last_mut() {
            Some((first, last)) if first.kind == address.kind && last.checked_add(1) == Some(address.index) => {
                *last = address.index;
            }
            _ => runs.push((address, address.index)),
        }
    }
    runs
}

/// The nearest number of single precision.
#[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
const fn nearest(number: f64) -> f32 {
    number as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::LinkPlan;
    use interlex_core::description::{Files, read};
    use interlex_core::{PointTable, Value};
    use interlex_dnp3::{EventTime, Flags, MeasuredValue, Number, PointKind};

    fn station() -> Station {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"dnp3-tcp\"\nhost = \
                    \"relay\"\n[[device]]\nname = \"d\"\nlink = \"l\"\naddress = 10\npoints = \"p.csv\"\n";
        let list = "name,address,rate\nx,counter:0,fast\ny,counter:1,fast\n";
        let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list.into())].into();
        let description = read(&files).unwrap();
        let points = PointTable::new(&description, &PointTable::default());
        let plan = LinkPlan::new(&description, &description.links[0], &points);
        Station::new(0, &plan.devices[0], "relay:20000", &Memories::default()).unwrap()
    }

    fn event(index: u32, count: u32, millis: u64) -> Measurement {
        let value = MeasuredValue::Number(Number::Uint32(count));
        let time = Some(EventTime { millis, is_synchronized: true });
        Measurement { kind: PointKind::Counter, index, value, flags: Some(Flags::ONLINE), time, is_event: true }
    }

    #[test]
    fn what_is_told_again_is_known_by_its_content_and_order() {
        let mut station = station();
        let mut told = |events: &[(u32, u32, u64)]| {
            let events: Vec<_> = events.iter().map(|(index, count, millis)| event(*index, *count, *millis)).collect();
            let values = station.take(&events, false).samples.into_iter().filter_map(|sample| sample.value);
            values
                .filter_map(|value| if let Value::Uint(count) = value { Some(count) } else { None })
                .collect::<Vec<_>>()
        };
        assert_eq!(told(&[(0, 1, 10), (0, 1, 10), (0, 2, 11)]), [1, 1, 2], "several of one moment are several");
        assert_eq!(told(&[(0, 1, 10), (0, 1, 10), (0, 2, 11), (1, 7, 11), (0, 3, 12)]), [7, 3], "again, and more");
        assert_eq!(told(&[(0, 3, 12), (0, 4, 13)]), [4], "the last one again");
        assert_eq!(told(&[(0, 5, 9)]), [5], "a clock that was set back makes no repeats");
        assert_eq!(told(&[(0, 6, 20), (0, 5, 9)]), [6, 5], "what follows something new is new");
        assert!(told(&[(2, 1, 30), (3, 1, 30), (70_000, 1, 30)]).is_empty(), "no points of the list");
        assert_eq!(station.memory.places(), 5, "they stand in the sequence of events all the same");
    }
}
