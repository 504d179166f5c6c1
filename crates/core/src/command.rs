use crate::description::{Access, Address, Point};
use crate::{DataType, UnapplyError, Value};

/// Why a value may not be written to a point.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum CommandRefusal {
    /// The point is only read.
    #[error("the point is read only; its access would have to be read-write")]
    ReadOnly,
    /// Below the low limit of the point.
    #[error("{value} is below its low limit {low}")]
    Low {
        /// The engineering value.
        value: f64,
        /// The limit.
        low: f64,
    },
    /// Above the high limit of the point.
    #[error("{value} is above its high limit {high}")]
    High {
        /// The engineering value.
        value: f64,
        /// The limit.
        high: f64,
    },
    /// The value has no form in the device.
    #[error(transparent)]
    Value(#[from] UnapplyError),
}

/// The raw value that a command writes: access, limits and type are checked before anything is sent.
///
/// # Errors
/// [`CommandRefusal`]
pub fn raw_to_write(point: &Point, value: &Value) -> Result<Value, CommandRefusal> {
    let settings = &point.settings;
    if settings.access == Access::Read {
        return Err(CommandRefusal::ReadOnly);
    }
    let number = value.as_f64().filter(|_| !matches!(value, Value::Bool(_)));
    if let Some((value, low)) = number.zip(settings.low).filter(|(value, low)| value < low) {
        return Err(CommandRefusal::Low { value, low });
    }
    if let Some((value, high)) = number.zip(settings.high).filter(|(value, high)| value > high) {
        return Err(CommandRefusal::High { value, high });
    }
    Ok(point.shaping.unapply(value, raw_type(point))?)
}

/// The type that stands in the device: one bit or a part of a register says so by its address.
fn raw_type(point: &Point) -> DataType {
    let Address::Modbus(address) = point.address;
    match address.bits {
        Some((low, high)) if low == high => DataType::Bool,
        _ if address.table.is_bits() => DataType::Bool,
        _ => point.settings.data_type,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::{Files, read};

    #[test]
    fn a_command_is_checked_before_anything_is_sent() {
        let gateway = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                       \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let points = "name,address,type,scale,rate,access,low,high\nset-point,holding:0,uint16,0.1,fast,read-write,30,50\n\
                      pump,coil:0,,,fast,read-write,,\nmode,holding:5.2,,,fast,read-write,,\nlevel,input:0,uint16,,fast,,,\n";
        let files: Files = [("gateway.toml".into(), gateway.into()), ("p.csv".into(), points.into())].into();
        let device = read(&files).unwrap().devices.remove(0);
        let write =
            |at: usize, value: Value| raw_to_write(&device.points[at], &value).map_err(|error| error.to_string());
        assert_eq!(write(0, Value::Float64(42.5)), Ok(Value::Uint(425)));
        assert_eq!(write(0, Value::Int(51)), Err("51 is above its high limit 50".into()));
        assert_eq!(write(0, Value::Float64(29.9)), Err("29.9 is below its low limit 30".into()));
        assert_eq!(write(1, Value::Bool(true)), Ok(Value::Bool(true)));
        assert_eq!(write(2, Value::Bool(false)), Ok(Value::Bool(false)));
        assert_eq!(write(2, Value::Uint(1)), Err("1 is no bit: write true or false".into()));
        assert!(write(3, Value::Uint(1)).unwrap_err().starts_with("the point is read only"));
    }
}
