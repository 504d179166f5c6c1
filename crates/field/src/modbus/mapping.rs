//! Between the words of the description and those of the Modbus crate.

use interlex_core::description::{ModbusAddress, ModbusTable, Point};
use interlex_core::{ByteOrder, DataType, Reason, RegisterError, Value, decode_registers};
use interlex_modbus::{ReadData, ReadRequest, Table};

pub(crate) const fn table(table: ModbusTable) -> Table {
    match table {
        ModbusTable::Coil => Table::Coil,
        ModbusTable::Discrete => Table::DiscreteInput,
        ModbusTable::Input => Table::InputRegister,
        ModbusTable::Holding => Table::HoldingRegister,
    }
}

/// How to make a value out of what a block brought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Reader {
    /// The place of the point among those of its unit.
    pub(crate) place: u32,
    address: ModbusAddress,
    data_type: DataType,
    order: ByteOrder,
}

/// The request that reads one value alone.
pub(crate) fn request(address: ModbusAddress, data_type: DataType) -> Result<ReadRequest, String> {
    let extent = address.extent(data_type).ok_or_else(|| format!("{data_type} does not fit {address}"))?;
    let count = extent.1 - extent.0 + 1;
    ReadRequest::new(table(address.table), extent.0, count).map_err(|error| error.to_string())
}

impl Reader {
    pub(crate) fn new(place: u32, point: &Point) -> Option<Self> {
        let (address, own) = point.modbus()?;
        Some(Self { place, address, data_type: point.settings.data_type, order: own.order })
    }

    /// The value in an answer to a request for nothing else.
    pub(crate) fn value_of(&self, data: &ReadData) -> Option<Value> {
        match data {
            ReadData::Bits(bits) => bits.first().map(|bit| Value::Bool(*bit)),
            ReadData::Registers(registers) => self.value(registers).ok(),
        }
    }

    pub(crate) fn value(&self, registers: &[u16]) -> Result<Value, Reason> {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn reader(address: &str, data_type: DataType) -> Reader {
        Reader { place: 0, address: address.parse().unwrap(), data_type, order: ByteOrder::Abcd }
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
        let vectors = include_str!("../../../modbus/tests/vectors/modbus.jsonl").lines();
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
