//! Between the words of the description and those of the Modbus crate.

use interlex_core::description::{
    Address, BitWrites, Description, Device, LinkProtocol, ModbusAddress, ModbusDevice, ModbusTable, PlannedRequest,
    Point, SerialParity, WriteFunctions, planned,
};
use interlex_core::{
    Block, ByteOrder, DataType, PointIndex, RawSample, Reason, RegisterError, Value, decode_registers,
    encode_registers, split,
};
use interlex_modbus::{
    ClientConfig, Connection, ExceptionCode, Framing, InvalidRequest, Parity, ReadData, ReadRequest, SerialSettings,
    Table, WriteRequest, Written,
};
use std::ops::RangeInclusive;
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
    block: Block<Reader>,
    table: Table,
}

/// Plans the requests that read all points of a device; `index_of` tells the index of a point by its position.
pub(crate) fn polls(description: &Description, device: &Device, index_of: impl Fn(usize) -> PointIndex) -> Vec<Poll> {
    let poll = |planned: PlannedRequest| {
        let reader = |(first, last, position): (u16, u16, usize)| {
            device.points.get(position).map(|point| (first, last, Reader::new(index_of(position), point)))
        };
        let items = planned.block.items.into_iter().filter_map(reader).collect();
        let block = Block { range: planned.block.range, items };
        Poll::new(planned.period.into(), table(planned.table), block).ok()
    };
    planned(description, device).into_iter().filter_map(poll).collect()
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
    fn new(period: Duration, table: Table, block: Block<Reader>) -> Result<Self, InvalidRequest> {
        let (start, end) = (*block.range.start(), *block.range.end());
        let request = ReadRequest::new(table, start, (end - start).saturating_add(1))?;
        Ok(Self { period, request, block, table })
    }

    /// Two requests in place of one that was refused; `None` when it asks for a single point.
    pub(crate) fn split(&self) -> Option<[Self; 2]> {
        let (one, two) = split(self.block.clone()).ok()?;
        let part = |block| Self::new(self.period, self.table, block).ok();
        Some([part(one)?, part(two)?])
    }

    /// Two requests, of which the second begins at an address; `None` when one of them would read nothing.
    pub(crate) fn split_at(&self, address: u16) -> Option<[Self; 2]> {
        let (one, two) = self.block.items.iter().copied().partition(|(first, ..)| *first < address);
        Some([self.of(one)?, self.of(two)?])
    }

    /// One request in place of two.
    pub(crate) fn joined(&self, other: &Self) -> Option<Self> {
        let mut items = [self.block.items.as_slice(), &other.block.items].concat();
        items.sort_by_key(|(first, ..)| *first);
        self.of(items)
    }

    fn of(&self, items: Vec<(u16, u16, Reader)>) -> Option<Self> {
        let first = items.iter().map(|(first, ..)| *first).min()?;
        let last = items.iter().map(|(_, last, _)| *last).max()?;
        Self::new(self.period, self.table, Block { range: first..=last, items }).ok()
    }

    /// A request for one of its points alone.
    pub(crate) fn narrowed(&self, number: usize) -> Option<Self> {
        let item = *self.block.items.get(number % self.block.items.len().max(1))?;
        self.of(vec![item])
    }

    /// The points that it reads.
    pub(crate) fn points(&self) -> impl Iterator<Item = PointIndex> + '_ {
        self.block.items.iter().map(|(.., reader)| reader.point)
    }

    /// The addresses that it reads.
    pub(crate) const fn range(&self) -> &RangeInclusive<u16> {
        &self.block.range
    }

    /// Whether it reads a point.
    pub(crate) fn reads(&self, point: PointIndex) -> bool {
        self.points().any(|other| other == point)
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
            let outcome = outcome.unwrap_or(Err(Reason::ProtocolError));
            batch.push(RawSample { point: reader.point, outcome, source_time: None });
        }
    }

    /// Appends a sample per point that says why there is no value.
    pub(crate) fn fail(&self, reason: Reason, batch: &mut Vec<RawSample>) {
        let failed = |point| RawSample { point, outcome: Err(reason), source_time: None };
        batch.extend(self.points().map(failed));
    }
}

/// The requests that write a raw value to a point, one after the other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Writing {
    /// One request does it.
    Direct(WriteRequest),
    /// The register is read, these bits of it are changed, and it is written.
    ReadModifyWrite { address: u16, and: u16, or: u16 },
}

impl Writing {
    /// How a raw value is written.
    ///
    /// # Errors
    /// When the value does not fit its place.
    pub(crate) fn new(device: &ModbusDevice, point: &Point, raw: &Value) -> Result<Self, String> {
        let Address::Modbus(address) = point.address;
        let number = address.number;
        let written = match (raw, address.bits) {
            (Value::Bool(bit), None) if address.table.is_bits() => match device.writes {
                WriteFunctions::Single => Written::Coil(*bit),
                WriteFunctions::Multiple => Written::Coils(vec![*bit]),
            },
            (_, Some((low, high))) => return Self::bits(device, number, low, high, raw),
            _ => {
                let (data_type, order) = (point.settings.data_type, point.settings.order);
                let registers = encode_registers(raw, data_type, order).map_err(|error| error.to_string())?;
                match (registers.as_slice(), device.writes) {
                    ([register], WriteFunctions::Single) => Written::Register(*register),
                    _ => Written::Registers(registers),
                }
            }
        };
        WriteRequest::new(number, written).map(Self::Direct).map_err(|error| error.to_string())
    }

    fn bits(device: &ModbusDevice, address: u16, low: u8, high: u8, raw: &Value) -> Result<Self, String> {
        let most = u16::MAX >> (15 - (high - low));
        let value = match raw {
            Value::Bool(bit) => Some(u16::from(*bit)),
            Value::Uint(number) => u16::try_from(*number).ok().filter(|number| *number <= most),
            Value::Int(number) => u16::try_from(*number).ok().filter(|number| *number <= most),
            _ => None,
        };
        let value = value.ok_or_else(|| format!("{raw} does not fit bits {low} to {high}: 0 to {most} does"))?;
        let (and, or) = (!(most << low), value << low);
        Ok(match device.bit_writes {
            BitWrites::Mask => {
                let request = WriteRequest::new(address, Written::Mask { and, or });
                Self::Direct(request.map_err(|error| error.to_string())?)
            }
            BitWrites::ReadModifyWrite => Self::ReadModifyWrite { address, and, or },
        })
    }
}

/// Converters send what is doubled as two packets: the second one shows before the next request goes out.
const STREAM_SILENCE: Duration = Duration::from_millis(5);

/// How a connection to a link is set up.
pub(crate) fn client_config(protocol: &LinkProtocol) -> ClientConfig {
    let timing = protocol.timing();
    let mut config = ClientConfig::default();
    config.response_timeout = timing.timeout.into();
    config.late_limit = timing.late_limit.into();
    if matches!(protocol, LinkProtocol::ModbusRtuTcp(_) | LinkProtocol::ModbusAsciiTcp(_)) {
        config.silence = STREAM_SILENCE;
    }
    config.in_flight = timing.in_flight.into();
    config.trace = true;
    config.framing = framing(protocol);
    if let LinkProtocol::ModbusRtu(link) | LinkProtocol::ModbusAscii(link) = protocol {
        config.turnaround = link.turnaround.into();
    }
    config
}

/// Connects to a link, or opens its port.
pub(crate) async fn connect(protocol: &LinkProtocol, config: ClientConfig) -> std::io::Result<Connection> {
    match protocol {
        LinkProtocol::ModbusTcp(link) | LinkProtocol::ModbusRtuTcp(link) | LinkProtocol::ModbusAsciiTcp(link) => {
            Connection::tcp(&link.host, link.port, link.connect_timeout.into(), config).await
        }
        LinkProtocol::ModbusRtu(link) | LinkProtocol::ModbusAscii(link) => {
            let parity = match link.parity {
                SerialParity::Even => Parity::Even,
                SerialParity::Odd => Parity::Odd,
                SerialParity::None => Parity::None,
            };
            let settings = SerialSettings {
                path: link.device_path.clone().into(),
                baud: link.baud,
                data_bits: link.data_bits.unwrap_or(8),
                parity,
                stop_bits: link.stop_bits(),
                rs485: link.rs485_direction,
            };
            Connection::serial(&settings, config)
        }
    }
}

/// How the messages of a link are put on its stream.
pub(crate) const fn framing(protocol: &LinkProtocol) -> Framing {
    match protocol {
        LinkProtocol::ModbusTcp(_) => Framing::Tcp,
        LinkProtocol::ModbusRtu(_) | LinkProtocol::ModbusRtuTcp(_) => Framing::Rtu,
        LinkProtocol::ModbusAscii(_) | LinkProtocol::ModbusAsciiTcp(_) => Framing::Ascii,
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
            ReadData::Registers(registers) => self.value(registers).ok(),
        }
    }

    fn value(&self, registers: &[u16]) -> Result<Value, Reason> {
        let Some((low, high)) = self.address.bits else {
            return decode_registers(registers, self.data_type, self.order).map_err(|error| match error {
                RegisterError::Digit(_) => Reason::NotDecimal,
                RegisterError::Count { .. } | RegisterError::Type(_) | RegisterError::Value { .. } => {
                    Reason::ProtocolError
                }
            });
        };
        let register = *registers.first().ok_or(Reason::ProtocolError)? >> low;
        if low == high {
            return Ok(Value::Bool(register & 1 == 1));
        }
        Ok(Value::Uint(u64::from(register & (u16::MAX >> (15 - (high - low))))))
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

#[cfg(test)]
mod tests {
    use super::*;

    fn reader(address: &str, data_type: DataType) -> Reader {
        Reader { point: PointIndex(0), address: address.parse().unwrap(), data_type, order: ByteOrder::Abcd }
    }

    #[test]
    fn bits_and_ranges_are_cut_out_of_their_register() {
        let registers = [0b1010_0000_0101_0001];
        assert_eq!(reader("holding:0.0", DataType::Bool).value(&registers), Ok(Value::Bool(true)));
        assert_eq!(reader("holding:0.1", DataType::Bool).value(&registers), Ok(Value::Bool(false)));
        assert_eq!(reader("holding:0.4-7", DataType::Uint16).value(&registers), Ok(Value::Uint(5)));
        assert_eq!(reader("holding:0.0-15", DataType::Uint16).value(&registers), Ok(Value::Uint(0xA051)));
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
