use super::mapping::{kind, quality, value};
use crate::link::PlannedDevice;
use interlex_core::description::{Dnp3Device, Dnp3Link, Dnp3TimeSync};
use interlex_core::{DataType, PointIndex, Quality, RawSample, Reason, SampleKind, Timestamp};
use interlex_dnp3::{Classes, LinkAddress, Master, MasterConfig, Measurement, PointKind, TimeSync};
use std::collections::{HashMap, HashSet, VecDeque};
use std::time::{Duration, Instant};

/// An outstation as a device of the link.
#[derive(Debug)]
pub(super) struct Station {
    /// Its place on the link.
    pub(super) place: usize,
    pub(super) address: LinkAddress,
    /// Our address, as it knows it.
    pub(super) own: LinkAddress,
    pub(super) planned: PlannedDevice,
    points: HashMap<(PointKind, u32), Vec<(PointIndex, DataType)>>,
    pub(super) is_up: bool,
    pub(super) is_silent: bool,
    /// Points that it told since the connection came up.
    told: HashSet<PointIndex>,
    /// Events that it told last, by what they are of: what it tells again is known by them.
    remembered: HashMap<(PointKind, u32), VecDeque<Measurement>>,
    /// When its points were last said to be as they were.
    pub(super) confirmed: Option<Instant>,
}

impl Station {
    /// A device of the plan, where it is one of DNP3.
    pub(super) fn new(place: usize, planned: &PlannedDevice) -> Option<Self> {
        let own = planned.device.protocol.dnp3()?;
        let mut points: HashMap<_, Vec<_>> = HashMap::new();
        for (index, point) in planned.points.iter().zip(&planned.device.points) {
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
            told: HashSet::new(),
            remembered: HashMap::new(),
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

    /// Everything begins anew.
    pub(super) fn begin_anew(&mut self) {
        (self.is_up, self.is_silent, self.confirmed) = (false, false, None);
        self.told.clear();
    }

    /// What it told, as samples of its points, without what it told before.
    pub(super) fn samples(&mut self, measured: &[Measurement]) -> Vec<RawSample> {
        let mut samples = Vec::with_capacity(measured.len());
        let repeated = self.repeated(measured);
        for (_, told) in measured.iter().enumerate().filter(|(place, _)| !repeated.contains(place)) {
            let points = self.points.get(&(told.kind, told.index)).map(Vec::as_slice).unwrap_or_default();
            for (point, data_type) in points {
                self.told.insert(*point);
                let value = value(&told.value, *data_type);
                let quality = if value.is_none() { Quality::Bad(Reason::ProtocolError) } else { quality(told) };
                let time = told.time.and_then(|time| i64::try_from(time.millis).ok()).map(Timestamp::from_millis);
                let kind = if told.is_event { SampleKind::Event } else { SampleKind::Current };
                samples.push(RawSample { point: *point, value, quality, source_time: time, kind });
            }
        }
        samples
    }

    /// The places of events that were told before, since their confirm was lost: of each point, what it begins with and what it
    /// ended with then. Within one fragment nothing is a repeat, and without a time nothing can be told to be one.
    fn repeated(&mut self, measured: &[Measurement]) -> HashSet<usize> {
        let mut by_point: HashMap<_, Vec<usize>> = HashMap::new();
        let may_be = |told: &Measurement| told.is_event && told.time.is_some();
        for (place, told) in measured.iter().enumerate().filter(|(_, told)| may_be(told)) {
            // Nobody listens to the others, of which there may be any number.
            if self.points.contains_key(&(told.kind, told.index)) {
                by_point.entry((told.kind, told.index)).or_default().push(place);
            }
        }
        let mut repeated = HashSet::new();
        for (point, places) in by_point {
            let known = self.remembered.entry(point).or_default();
            let is_same = |count: &usize| {
                let ended = known.iter().skip(known.len() - count);
                ended.eq(places.iter().take(*count).filter_map(|place| measured.get(*place)))
            };
            let count = (1..=known.len().min(places.len())).rev().find(is_same).unwrap_or(0);
            repeated.extend(places.iter().take(count));
            known.extend(places.iter().skip(count).filter_map(|place| measured.get(*place)).cloned());
            known.drain(..known.len().saturating_sub(REMEMBERED));
        }
        repeated
    }

    /// Points of the list that it did not tell when it was asked for all.
    pub(super) fn missing(&self) -> Vec<(PointIndex, String, Reason)> {
        let points = self.planned.points.iter().zip(&self.planned.device.points);
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
        own.map_or_else(|| Master::new(quiet(link)), |own| Master::new(config(link, own)))
    }
}

/// So many events of a point are remembered.
const REMEMBERED: usize = 256;

/// A master that asks for nothing by itself.
pub(super) fn quiet(link: &Dnp3Link) -> MasterConfig {
    MasterConfig { begins: false, response_timeout: link.timeout().into(), ..MasterConfig::default() }
}

fn config(link: &Dnp3Link, own: &Dnp3Device) -> MasterConfig {
    let timeout = Duration::from(link.timeout());
    MasterConfig {
        begins: true,
        response_timeout: timeout,
        retries: own.retries,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::LinkPlan;
    use interlex_core::description::{Files, read};
    use interlex_core::{PointTable, Value};
    use interlex_dnp3::{EventTime, Flags, MeasuredValue, Number};

    fn station() -> Station {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"dnp3-tcp\"\nhost = \
                    \"relay\"\n[[device]]\nname = \"d\"\nlink = \"l\"\naddress = 10\npoints = \"p.csv\"\n";
        let list = "name,address,rate\nx,counter:0,fast\ny,counter:1,fast\n";
        let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list.into())].into();
        let description = read(&files).unwrap();
        let points = PointTable::new(&description, &PointTable::default());
        let plan = LinkPlan::new(&description, &description.links[0], &points);
        Station::new(0, &plan.devices[0]).unwrap()
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
            let values = station.samples(&events).into_iter().filter_map(|sample| sample.value);
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
        assert_eq!(station.remembered.len(), 2, "of them nothing is kept");
    }
}
