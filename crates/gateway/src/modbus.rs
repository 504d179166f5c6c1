//! Between the words of the description and those of the Modbus crate.

use interlex_core::description::{
    Address, Device, DeviceProtocol, LinkProtocol, ModbusAddress, ModbusDevice, ModbusTable, Point,
};
use interlex_core::{
    Block, ByteOrder, DataType, PlanLimits, PointIndex, RawSample, Reason, Value, decode_registers, plan, split,
};
use interlex_modbus::{ExceptionCode, Framing, InvalidRead, ReadData, ReadRequest, RequestError, ResponseError, Table};
use std::collections::BTreeMap;
use std::time::Duration;

/// How to make a value out of what a block brought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Reader {
    pub(crate) point: PointIndex,
    address: ModbusAddress,
    data_type: DataType,
    order: ByteOrder,
}

/// One request of a device that is sent again and again.
#[derive(Debug, Clone)]
pub(crate) struct Poll {
    pub(crate) period: Duration,
    pub(crate) request: ReadRequest,
    pub(crate) block: Block<Reader>,
    table: Table,
}

/// Plans the requests that read all points of a device; `index_of` tells the index of a point by its position.
pub(crate) fn polls(
    device: &Device,
    index_of: impl Fn(usize) -> PointIndex,
    period_of: impl Fn(&str) -> Duration,
) -> Vec<Poll> {
    let DeviceProtocol::Modbus(settings) = &device.protocol;
    let mut groups: BTreeMap<(Duration, Table), Vec<_>> = BTreeMap::new();
    for (position, point) in device.points.iter().enumerate() {
        let Address::Modbus(address) = point.address;
        let reader = Reader::new(index_of(position), point);
        // The checks let no point pass whose extent runs past the end.
        let Some((start, end)) = address.extent(point.settings.data_type) else { continue };
        let group = (period_of(point.settings.rate.as_str()), table(address.table));
        groups.entry(group).or_default().push((start, end, reader));
    }
    let blocks = groups.into_iter().flat_map(|((period, table), items)| {
        plan(items, limits(settings, table)).into_iter().map(move |block| (period, table, block))
    });
    blocks.filter_map(|(period, table, block)| Poll::new(period, table, block).ok()).collect()
}

fn limits(settings: &ModbusDevice, table: Table) -> PlanLimits {
    let max_addresses = if table.is_bits() { settings.max_bits } else { settings.max_registers };
    PlanLimits { max_addresses, max_gap: settings.max_gap }
}

pub(crate) const fn table(table: ModbusTable) -> Table {
    match table {
        ModbusTable::Coil => Table::Coil,
        ModbusTable::Discrete => Table::DiscreteInput,
        ModbusTable::Input => Table::InputRegister,
        ModbusTable::Holding => Table::HoldingRegister,
    }
}

impl Poll {
    fn new(period: Duration, table: Table, block: Block<Reader>) -> Result<Self, InvalidRead> {
        let (start, end) = (*block.range.start(), *block.range.end());
        let request = ReadRequest::new(table, start, (end - start).saturating_add(1))?;
        Ok(Self { period, request, block, table })
    }

    /// Cuts a refused request into two; `Err` when a single point is left.
    pub(crate) fn split(self) -> Result<[Self; 2], Self> {
        let (period, table, request) = (self.period, self.table, self.request);
        let whole = |block| Self { period, request, block, table };
        let (one, two) = split(self.block).map_err(whole)?;
        match (Self::new(period, table, one), Self::new(period, table, two)) {
            (Ok(one), Ok(two)) => Ok([one, two]),
            // Parts of a valid request are valid; there is nothing sensible to do if they were not.
            (Err(_), _) | (_, Err(_)) => Err(whole(Block { range: 0..=0, items: Vec::new() })),
        }
    }

    /// Appends a sample per point, taken from the answer.
    pub(crate) fn read(&self, data: &ReadData, batch: &mut Vec<RawSample>) {
        let start = *self.block.range.start();
        for (first, last, reader) in &self.block.items {
            let range = usize::from(first - start)..=usize::from(last - start);
            let outcome = match data {
                ReadData::Bits(bits) => bits.get(*range.start()).map(|bit| Value::Bool(*bit)),
                ReadData::Registers(registers) => registers.get(range).and_then(|registers| reader.value(registers)),
            };
            let outcome = outcome.ok_or(Reason::ProtocolError);
            batch.push(RawSample { point: reader.point, outcome, source_time: None });
        }
    }

    /// Appends a sample per point that says why there is no value.
    pub(crate) fn fail(&self, reason: Reason, batch: &mut Vec<RawSample>) {
        let failed = |(_, _, reader): &(u16, u16, Reader)| RawSample {
            point: reader.point,
            outcome: Err(reason),
            source_time: None,
        };
        batch.extend(self.block.items.iter().map(failed));
    }
}

/// How the messages of a link are put on its stream.
pub(crate) const fn framing(protocol: &LinkProtocol) -> Framing {
    match protocol {
        LinkProtocol::ModbusTcp(_) => Framing::Tcp,
        LinkProtocol::ModbusRtuTcp(_) => Framing::Rtu,
    }
}

/// The request that reads one value alone.
pub(crate) fn request(address: ModbusAddress, data_type: DataType) -> Result<ReadRequest, String> {
    let extent = address.extent(data_type).ok_or_else(|| format!("{data_type} does not fit {address}"))?;
    let count = extent.1 - extent.0 + 1;
    ReadRequest::new(table(address.table), extent.0, count).map_err(|error| error.to_string())
}

impl Reader {
    pub(crate) const fn new(index: PointIndex, point: &Point) -> Self {
        let Address::Modbus(address) = point.address;
        Self { point: index, address, data_type: point.settings.data_type, order: point.settings.order }
    }

    /// The value in an answer to a request for nothing else.
    pub(crate) fn value_of(&self, data: &ReadData) -> Option<Value> {
        match data {
            ReadData::Bits(bits) => bits.first().map(|bit| Value::Bool(*bit)),
            ReadData::Registers(registers) => self.value(registers),
        }
    }

    fn value(&self, registers: &[u16]) -> Option<Value> {
        let Some((low, high)) = self.address.bits else {
            return decode_registers(registers, self.data_type, self.order).ok();
        };
        let register = *registers.first()? >> low;
        if low == high {
            return Some(Value::Bool(register & 1 == 1));
        }
        Some(Value::Uint(u64::from(register & (u16::MAX >> (15 - (high - low))))))
    }
}

/// A reason in the words of its protocol: `device exception 02, illegal data address`.
#[must_use]
pub fn reason_words(reason: Reason) -> String {
    match reason {
        Reason::DeviceException(code) => format!("device {}", ExceptionCode(code)),
        _ => reason.to_string(),
    }
}

/// What a failed request means for the points behind it.
pub(crate) fn reason(error: RequestError) -> Reason {
    match error {
        RequestError::Timeout(_) => Reason::Timeout,
        RequestError::Response(ResponseError::Exception(code)) => Reason::DeviceException(code.0),
        RequestError::Response(_) => Reason::ProtocolError,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reader(address: &str, data_type: DataType) -> Reader {
        Reader { point: PointIndex(0), address: address.parse().unwrap(), data_type, order: ByteOrder::Abcd }
    }

    #[test]
    fn bits_and_ranges_are_cut_out_of_their_register() {
        let registers = [0b1010_0000_0101_0001];
        assert_eq!(reader("holding:0.0", DataType::Bool).value(&registers), Some(Value::Bool(true)));
        assert_eq!(reader("holding:0.1", DataType::Bool).value(&registers), Some(Value::Bool(false)));
        assert_eq!(reader("holding:0.4-7", DataType::Uint16).value(&registers), Some(Value::Uint(5)));
        assert_eq!(reader("holding:0.0-15", DataType::Uint16).value(&registers), Some(Value::Uint(0xA051)));
    }

    #[test]
    fn independent_vectors_of_types_and_orders_decode_to_their_values() {
        let vectors = include_str!("../../modbus/tests/vectors/modbus.jsonl").lines();
        let mut seen = 0;
        for vector in vectors.map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()) {
            let (meaning, decode) = (&vector["meaning"], &vector["meaning"]["decode"]);
            let Some(data_type) = decode["type"].as_str().and_then(|name| name.parse::<DataType>().ok()) else {
                continue;
            };
            let order = serde_json::from_value(decode["order"].clone()).unwrap_or_default();
            let registers: Vec<u16> = serde_json::from_value(meaning["registers"].clone()).unwrap();
            let value = decode_registers(&registers, data_type, order).unwrap();
            let (got, wanted) = (value.to_string(), &decode["value"]);
            match wanted.as_f64().filter(|_| matches!(value, Value::Float32(_) | Value::Float64(_))) {
                Some(wanted) => assert!((value.as_f64().unwrap() - wanted).abs() <= wanted.abs() * 1e-7, "{vector}"),
                None => assert_eq!(
                    got.trim_start_matches('-'),
                    wanted
                        .as_str()
                        .map_or(wanted.to_string(), |text| text.replace("Infinity", "inf"))
                        .trim_start_matches('-'),
                    "{vector}"
                ),
            }
            seen += 1;
        }
        assert!(seen >= 20, "{seen}");
    }
}
