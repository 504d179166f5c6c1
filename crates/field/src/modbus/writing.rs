use interlex_core::description::{BitWrites, ModbusDevice, Point, WriteFunctions};
use interlex_core::{Value, encode_registers};
use interlex_modbus::{WriteRequest, Written};

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
        let (address, own) = point.modbus().ok_or("the point is of another protocol")?;
        let number = address.number;
        let written = match (raw, address.bits) {
            (Value::Bool(bit), None) if address.table.is_bits() => match device.writes {
                WriteFunctions::Single => Written::Coil(*bit),
                WriteFunctions::Multiple => Written::Coils(vec![*bit]),
            },
            (_, Some((low, high))) => return Self::bits(device, number, low, high, raw),
            _ => {
                let registers =
                    encode_registers(raw, point.settings.data_type, own.order).map_err(|error| error.to_string())?;
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
