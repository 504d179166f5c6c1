use super::moment;
use super::read_property::put_enclosed;
use crate::apdu::Error;
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{self, put_boolean, put_unsigned, real, signed, unsigned, unsigned_32};
use crate::primitive::{BitString, Content, DateTime, Tag, Value, tag};

/// One record of a log.
///
/// Source: ASHRAE 135-2016, clause 12.25 (BACnetLogRecord).
#[derive(Debug, Clone, PartialEq)]
pub struct LogRecord {
    /// When, in the local time of the device.
    pub at: DateTime,
    /// What.
    pub datum: LogDatum,
    /// In-alarm, fault, overridden and out-of-service then, where it is told.
    pub status_flags: Option<BitString>,
}

/// What a record says.
#[derive(Debug, Clone, PartialEq)]
pub enum LogDatum {
    /// Something about the log itself.
    Status {
        /// It was switched off.
        is_disabled: bool,
        /// Its records were removed.
        is_purged: bool,
        /// It was interrupted.
        is_interrupted: bool,
    },
    /// A value.
    Value(Value),
    /// The value could not be had.
    Failure(Error),
    /// The clock was changed, by so many seconds where that is known.
    TimeChange(f32),
    /// Something else.
    Other(Content),
}

impl LogRecord {
    /// Reads the records of an answer.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode_all(items: &Content) -> Result<Vec<Self>, DecodeError> {
        let mut reader = Reader::new(items.octets());
        let mut records = Vec::new();
        while !reader.is_empty() {
            records.push(Self::read(&mut reader)?);
        }
        Ok(records)
    }

    fn read(reader: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let mut inner = Reader::new(reader.enclosed(0, "the moment of a record")?);
        let at = moment::read(&mut inner)?;
        inner.finish("the moment of a record")?;
        let mut inner = Reader::new(reader.enclosed(1, "what a record says")?);
        let datum = LogDatum::read(&mut inner)?;
        let place = reader.at();
        let status_flags = reader.optional(2, "status flags")?;
        let status_flags =
            status_flags.map(|content| BitString::of_content(content).ok_or(Fault::Value("status flags").at(place)));
        Ok(Self { at, datum, status_flags: status_flags.transpose()? })
    }

    /// Appends the record.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let mut inner = Vec::new();
        moment::put(&mut inner, self.at);
        put_enclosed(out, 0, &inner);
        inner.clear();
        self.datum.put(&mut inner);
        put_enclosed(out, 1, &inner);
        if let Some(flags) = &self.status_flags {
            put_bits(out, 2, flags);
        }
    }
}

fn put_bits(out: &mut Vec<u8>, number: u8, bits: &BitString) {
    tag::write(out, Tag::Context(number), bits.octets().len() + 1);
    out.push(bits.unused());
    out.extend(bits.octets());
}

impl LogDatum {
    fn read(reader: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let at = reader.at();
        let wrong = |fault: Fault| fault.at(at);
        let Some(tag) = reader.next_tag() else { return Err(reader.error(Fault::Missing("what a record says"))) };
        let datum = match tag {
            Tag::Context(0) => {
                let bits = BitString::of_content(reader.required(0, "the log status")?);
                let bits = bits.ok_or_else(|| wrong(Fault::Value("the log status")))?;
                Self::Status { is_disabled: bits.has(0), is_purged: bits.has(1), is_interrupted: bits.has(2) }
            }
            Tag::Context(1) => Self::Value(Value::Boolean(
                value::boolean(reader.required(1, "a Boolean")?, "a Boolean").map_err(wrong)?,
            )),
            Tag::Context(2) => Self::Value(Value::Real(real(reader.required(2, "a Real")?, "a Real").map_err(wrong)?)),
            Tag::Context(3) => Self::Value(Value::Enumerated(
                unsigned_32(reader.required(3, "an Enumerated")?, "an Enumerated").map_err(wrong)?,
            )),
            Tag::Context(4) => Self::Value(Value::Unsigned(
                unsigned(reader.required(4, "an Unsigned")?, "an Unsigned").map_err(wrong)?,
            )),
            Tag::Context(5) => {
                Self::Value(Value::Signed(signed(reader.required(5, "an INTEGER")?, "an INTEGER").map_err(wrong)?))
            }
            Tag::Context(6) => Self::Value(Value::BitString(
                BitString::of_content(reader.required(6, "a BitString")?)
                    .ok_or_else(|| wrong(Fault::Value("a BitString")))?,
            )),
            Tag::Context(7) => {
                reader.required(7, "a Null")?;
                Self::Value(Value::Null)
            }
            Tag::Opening(8) => {
                let mut inner = Reader::new(reader.enclosed(8, "a failure")?);
                Self::Failure(Error::read(&mut inner)?)
            }
            Tag::Context(9) => {
                Self::TimeChange(real(reader.required(9, "a time change")?, "a time change").map_err(wrong)?)
            }
            Tag::Opening(10) => {
                let content = Content::checked(reader.enclosed(10, "a value")?);
                content.one().map_or(Self::Other(content), Self::Value)
            }
            _ => return Err(wrong(Fault::Missing("what a record says"))),
        };
        reader.finish("what a record says")?;
        Ok(datum)
    }

    fn put(&self, out: &mut Vec<u8>) {
        let octets = |out: &mut Vec<u8>, number, octets: &[u8]| {
            tag::write(out, Tag::Context(number), octets.len());
            out.extend(octets);
        };
        match self {
            Self::Status { is_disabled, is_purged, is_interrupted } => {
                put_bits(out, 0, &BitString::of(&[*is_disabled, *is_purged, *is_interrupted]));
            }
            Self::Value(Value::Boolean(value)) => put_boolean(out, 1, *value),
            Self::Value(Value::Real(number)) => octets(out, 2, &number.to_be_bytes()),
            Self::Value(Value::Enumerated(number)) => put_unsigned(out, 3, (*number).into()),
            Self::Value(Value::Unsigned(number)) => put_unsigned(out, 4, *number),
            Self::Value(Value::BitString(bits)) => put_bits(out, 6, bits),
            Self::Value(Value::Null) => octets(out, 7, &[]),
            Self::Failure(error) => {
                let mut inner = Vec::new();
                error.encode(&mut inner);
                put_enclosed(out, 8, &inner);
            }
            Self::TimeChange(seconds) => octets(out, 9, &seconds.to_be_bytes()),
            Self::Value(value) => put_enclosed(out, 10, Content::of(std::slice::from_ref(value)).octets()),
            Self::Other(content) => put_enclosed(out, 10, content.octets()),
        }
    }
}
