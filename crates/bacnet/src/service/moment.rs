use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::{DateTime, Value};

/// A date and a time, one value after the other.
pub(super) fn read(reader: &mut Reader<'_>) -> Result<DateTime, DecodeError> {
    let at = reader.at();
    match (Value::read(reader)?, Value::read(reader)?) {
        (Value::Date(date), Value::Time(time)) => Ok(DateTime { date, time }),
        _ => Err(Fault::Value("a moment").at(at)),
    }
}

/// Appends them.
pub(super) fn put(out: &mut Vec<u8>, at: DateTime) {
    Value::from(at.date).encode(out);
    Value::from(at.time).encode(out);
}
