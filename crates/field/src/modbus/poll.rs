use super::mapping::{Reader, table};
use crate::link::PlannedDevice;
use crate::poll::Poll;
use interlex_core::description::{ModbusDevice, Name, PlannedRequest, Point, Span, planned};
use interlex_core::{Block, PointIndex, RawSample, Reason, Value, split};
use interlex_modbus::{InvalidRequest, ReadData, ReadRequest, Table};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

/// One request of a device that is sent again and again.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct ModbusPoll {
    period: Duration,
    pub(crate) request: ReadRequest,
    /// Shared by the units that are read in the same way.
    block: Arc<Block<Reader>>,
    table: Table,
    /// The points of the unit.
    points: Arc<[PointIndex]>,
}

/// A request of a unit, without the unit.
type Planned = (Duration, Table, Arc<Block<Reader>>);

/// How units are read: those that have the same points, and the same settings, are planned once.
#[derive(Debug, Default)]
pub(crate) struct Plans {
    known: Vec<KnownPlan>,
}

#[derive(Debug)]
struct KnownPlan {
    points: Arc<[Arc<Point>]>,
    settings: Option<ModbusDevice>,
    plan: Arc<[Planned]>,
}

impl Plans {
    /// Plans the requests that read all points of the devices of one unit.
    pub(crate) fn polls(
        &mut self,
        rates: &BTreeMap<Name, Span>,
        planned_devices: &[&PlannedDevice],
    ) -> Vec<Arc<ModbusPoll>> {
        let (points, plan) = match planned_devices {
            [alone] => (Arc::clone(&alone.points), self.plan_of(rates, alone)),
            several => {
                let points = several.iter().flat_map(|planned| planned.points.iter().copied());
                (points.collect(), plan(rates, several))
            }
        };
        let poll = |(period, table, block): &Planned| {
            ModbusPoll::new(*period, *table, Arc::clone(block), Arc::clone(&points)).ok().map(Arc::new)
        };
        plan.iter().filter_map(poll).collect()
    }

    fn plan_of(&mut self, rates: &BTreeMap<Name, Span>, planned: &PlannedDevice) -> Arc<[Planned]> {
        let settings = planned.device.protocol.modbus().map(|own| ModbusDevice { unit: 0, ..own.clone() });
        let points = &planned.device.points;
        let is_same = |known: &&KnownPlan| Arc::ptr_eq(&known.points, points) && known.settings == settings;
        if let Some(known) = self.known.iter().rev().find(is_same) {
            return Arc::clone(&known.plan);
        }
        let plan = plan(rates, &[planned]);
        // Lists of which each has its own may say the same.
        let equal = self.known.iter().rev().find(|known| known.plan == plan);
        let plan = equal.map_or(plan, |known| Arc::clone(&known.plan));
        self.known.push(KnownPlan { points: Arc::clone(points), settings, plan: Arc::clone(&plan) });
        plan
    }
}

/// The requests that read all points of some devices, whose points are counted one device after the other.
fn plan(rates: &BTreeMap<Name, Span>, planned_devices: &[&PlannedDevice]) -> Arc<[Planned]> {
    let before = planned_devices.iter().scan(0, |before, planned| {
        let first = *before;
        *before += planned.points.len();
        Some(first)
    });
    let before: Vec<usize> = before.collect();
    let made = |request: PlannedRequest| {
        let reader = |(first, last, (device, position)): (u16, u16, (usize, usize))| {
            let place = u32::try_from(before.get(device)? + position).ok()?;
            let point = planned_devices.get(device)?.device.points.get(position)?;
            Some((first, last, Reader::new(place, point)?))
        };
        let items = request.block.items.into_iter().filter_map(reader).collect();
        (request.period.into(), table(request.table), Arc::new(Block { range: request.block.range, items }))
    };
    let devices: Vec<_> = planned_devices.iter().map(|planned| &planned.device).collect();
    planned(rates, &devices).into_iter().map(made).collect()
}

impl ModbusPoll {
    fn new(
        period: Duration,
        table: Table,
        block: Arc<Block<Reader>>,
        points: Arc<[PointIndex]>,
    ) -> Result<Self, InvalidRequest> {
        let (start, end) = (*block.range.start(), *block.range.end());
        let request = ReadRequest::new(table, start, (end - start).saturating_add(1))?;
        Ok(Self { period, request, block, table, points })
    }

    /// The same for other items of the unit.
    fn with(&self, block: Block<Reader>) -> Option<Self> {
        Self::new(self.period, self.table, Arc::new(block), Arc::clone(&self.points)).ok()
    }

    fn of(&self, items: Vec<(u16, u16, Reader)>) -> Option<Self> {
        let first = items.iter().map(|(first, ..)| *first).min()?;
        let last = items.iter().map(|(_, last, _)| *last).max()?;
        self.with(Block { range: first..=last, items })
    }

    fn point(&self, reader: &Reader) -> Option<PointIndex> {
        self.points.get(reader.place as usize).copied()
    }

    /// Whether what it reads is held once for both.
    #[cfg(test)]
    pub(crate) fn is_planned_with(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.block, &other.block)
    }

    /// The points that it reads.
    pub(crate) fn points(&self) -> impl Iterator<Item = PointIndex> + '_ {
        self.block.items.iter().filter_map(|(.., reader)| self.point(reader))
    }

    /// Appends a sample per point, taken from the answer.
    pub(crate) fn read(&self, data: &ReadData, batch: &mut Vec<RawSample>) {
        let start = *self.block.range.start();
        for (first, last, reader) in &self.block.items {
            let Some(point) = self.point(reader) else { continue };
            let range = usize::from(first - start)..=usize::from(last - start);
            let outcome = match data {
                ReadData::Bits(bits) => bits.get(*range.start()).map(|bit| Ok(Value::Bool(*bit))),
                ReadData::Registers(registers) => registers.get(range).map(|registers| reader.value(registers)),
            };
            batch.push(match outcome.unwrap_or(Err(Reason::ProtocolError)) {
                Ok(value) => RawSample::read(point, value),
                Err(reason) => RawSample::failed(point, reason),
            });
        }
    }

    /// Appends a sample per point that says why there is no value.
    pub(crate) fn fail(&self, reason: Reason, batch: &mut Vec<RawSample>) {
        batch.extend(self.points().map(|point| RawSample::failed(point, reason)));
    }
}

impl Poll for ModbusPoll {
    type Place = u16;

    fn period(&self) -> Duration {
        self.period
    }

    fn split(&self) -> Option<[Self; 2]> {
        let (one, two) = split(Block::clone(&self.block)).ok()?;
        Some([self.with(one)?, self.with(two)?])
    }

    fn split_at(&self, address: u16) -> Option<[Self; 2]> {
        let (one, two) = self.block.items.iter().copied().partition(|(first, ..)| *first < address);
        Some([self.of(one)?, self.of(two)?])
    }

    fn joined(&self, other: &Self) -> Option<Self> {
        let mut items = [self.block.items.as_slice(), &other.block.items].concat();
        items.sort_by_key(|(first, ..)| *first);
        self.of(items)
    }

    fn narrowed(&self, number: usize) -> Option<Self> {
        let item = *self.block.items.get(number % self.block.items.len().max(1))?;
        self.of(vec![item])
    }

    fn range(&self) -> &RangeInclusive<u16> {
        &self.block.range
    }

    fn reads(&self, point: PointIndex) -> bool {
        self.points().any(|other| other == point)
    }
}
