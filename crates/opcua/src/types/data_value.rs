use super::{DateTime, StatusCode, Variant};
use crate::codec::{Binary, DecodeError, Reader};

/// A value with how good it is, and when it arose.
///
/// Source: OPC 10000-4, section 7.11; OPC 10000-6, section 5.2.2.17.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct DataValue {
    /// The value.
    pub value: Option<Variant>,
    /// How good it is; good where it is not told.
    pub status: Option<StatusCode>,
    /// When the value became what it is, where it comes from.
    pub source_time: Option<DateTime>,
    /// Steps of 10 picoseconds on top of the source time, 0 to 9999.
    pub source_picoseconds: Option<u16>,
    /// When the server had it.
    pub server_time: Option<DateTime>,
    /// Steps of 10 picoseconds on top of the server time, 0 to 9999.
    pub server_picoseconds: Option<u16>,
}

const VALUE: u8 = 0x01;
const STATUS: u8 = 0x02;
const SOURCE_TIME: u8 = 0x04;
const SERVER_TIME: u8 = 0x08;
const SOURCE_PICOSECONDS: u8 = 0x10;
const SERVER_PICOSECONDS: u8 = 0x20;

impl DataValue {
    /// How good the value is.
    #[must_use]
    pub fn status(&self) -> StatusCode {
        self.status.unwrap_or_default()
    }

    /// When it arose, as far as anybody said: at the source, or else when the server had it.
    #[must_use]
    pub fn time(&self) -> DateTime {
        self.source_time.or(self.server_time).unwrap_or_default()
    }

    /// Whether another is the same value of the same time. What else a status says, such as that values before it were lost, is
    /// nothing of the value itself.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        self.time() == other.time() && self.status().code() == other.status().code() && self.value == other.value
    }
}

fn put<T: Binary>(field: Option<&T>, flag: u8, flags: &mut u8, out: &mut Vec<u8>) {
    if let Some(field) = field {
        *flags |= flag;
        field.encode(out);
    }
}

impl Binary for DataValue {
    fn encode(&self, out: &mut Vec<u8>) {
        let (at, mut flags) = (out.len(), 0);
        out.push(0);
        put(self.value.as_ref(), VALUE, &mut flags, out);
        put(self.status.as_ref(), STATUS, &mut flags, out);
        put(self.source_time.as_ref(), SOURCE_TIME, &mut flags, out);
        put(self.source_picoseconds.as_ref(), SOURCE_PICOSECONDS, &mut flags, out);
        put(self.server_time.as_ref(), SERVER_TIME, &mut flags, out);
        put(self.server_picoseconds.as_ref(), SERVER_PICOSECONDS, &mut flags, out);
        if let Some(first) = out.get_mut(at) {
            *first = flags;
        }
    }

    #[inline]
    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let flags = u8::decode(from)?;
        #[inline]
        fn take<T: Binary>(is_there: bool, from: &mut Reader<'_>) -> Result<Option<T>, DecodeError> {
            is_there.then(|| T::decode(from)).transpose()
        }
        let has = |flag| flags & flag != 0;
        Ok(Self {
            value: take(has(VALUE), from)?,
            status: take(has(STATUS), from)?,
            source_time: take(has(SOURCE_TIME), from)?,
            source_picoseconds: take(has(SOURCE_PICOSECONDS), from)?,
            server_time: take(has(SERVER_TIME), from)?,
            server_picoseconds: take(has(SERVER_PICOSECONDS), from)?,
        })
    }
}
