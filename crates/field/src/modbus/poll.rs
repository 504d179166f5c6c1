use super::mapping::{Reader, table};
use crate::link::PlannedDevice;
use crate::poll::Poll;
use interlex_core::description::{Name, PlannedRequest, Span, planned};
use interlex_core::{Block, PointIndex, RawSample, Reason, Value, split};
use interlex_modbus::{InvalidRequest, ReadData, ReadRequest, Table};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::time::Duration;

/// One request of a device that is sent again and again.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct ModbusPoll {
    period: Duration,
    pub(crate) request: ReadRequest,
    block: Block<Reader>,
    table: Table,
}

/// Plans the requests that read all points of the devices of one unit.
pub(crate) fn polls(rates: &BTreeMap<Name, Span>, planned_devices: &[&PlannedDevice]) -> Vec<ModbusPoll> {
    let poll = |planned: PlannedRequest| {
        let reader = |(first, last, (device, position)): (u16, u16, (usize, usize))| {
            let planned = planned_devices.get(device)?;
            let (index, point) = (planned.points.get(position)?, planned.device.points.get(position)?);
            Some((first, last, Reader::new(*index, point)?))
        };
        let items = planned.block.items.into_iter().filter_map(reader).collect();
        let block = Block { range: planned.block.range, items };
        ModbusPoll::new(planned.period.into(), table(planned.table), block).ok()
    };
    let devices: Vec<_> = planned_devices.iter().map(|planned| &planned.device).collect();
    planned(rates, &devices).into_iter().filter_map(poll).collect()
}

impl ModbusPoll {
    fn new(period: Duration, table: Table, block: Block<Reader>) -> Result<Self, InvalidRequest> {
        let (start, end) = (*block.range.start(), *block.range.end());
        let request = ReadRequest::new(table, start, (end - start).saturating_add(1))?;
        Ok(Self { period, request, block, table })
    }

    fn of(&self, items: Vec<(u16, u16, Reader)>) -> Option<Self> {
        let first = items.iter().map(|(first, ..)| *first).min()?;
        let last = items.iter().map(|(_, last, _)| *last).max()?;
        Self::new(self.period, self.table, Block { range: first..=last, items }).ok()
    }

    /// The points that it reads.
    pub(crate) fn points(&self) -> impl Iterator<Item = PointIndex> + '_ {
        self.block.items.iter().map(|(.., reader)| reader.point)
    }

    /// Appends a sample per point, taken from the answer.
    pub(crate) fn read(&self, data: &ReadData, batch: &mut Vec<RawSample>) {
        let start = *self.block.range.start();
        for (first, last, reader) in &self.block.items {
            let range = usize::from(first - start)..=usize::from(last - start);
            let outcome = match data {
                ReadData::Bits(bits) => bits.get(*range.start()).map(|bit| Ok(Value::Bool(*bit))),
                ReadData::Registers(registers) => registers.get(range).map(|registers| reader.value(registers)),
            };
            batch.push(match outcome.unwrap_or(Err(Reason::ProtocolError)) {
                Ok(value) => RawSample::read(reader.point, value),
                Err(reason) => RawSample::failed(reader.point, reason),
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
        let (one, two) = split(self.block.clone()).ok()?;
        let part = |block| Self::new(self.period, self.table, block).ok();
        Some([part(one)?, part(two)?])
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
