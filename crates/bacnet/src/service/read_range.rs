use super::moment;
use super::read_property::put_enclosed;
use super::reference::{PropertyReference, number, optional_number, put_target, read_target};
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::put_unsigned;
use crate::primitive::{BitString, Content, DateTime, ObjectIdentifier, Tag, Value, tag};

/// Asks for some of the records of a list.
///
/// Source: ASHRAE 135-2016, clause 15.8.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadRange {
    /// The object.
    pub object: ObjectIdentifier,
    /// The property.
    pub reference: PropertyReference,
    /// Which; all when left out.
    pub range: Option<Range>,
}

/// Which records: from one on, or back from it where the count is negative.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Range {
    /// From a place on, the first one being 1.
    Position(u32, i16),
    /// From the record on that was the so manieth ever written.
    Sequence(u32, i16),
    /// Those after a moment, or before it where the count is negative.
    Time(DateTime, i16),
}

impl ReadRange {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let (object, reference) = read_target(&mut reader)?;
        let (tag, of): (u8, fn(u32, i16) -> Range) = match reader.next_tag() {
            None => return Ok(Self { object, reference, range: None }),
            Some(Tag::Opening(3)) => (3, Range::Position),
            Some(Tag::Opening(6)) => (6, Range::Sequence),
            Some(Tag::Opening(7)) => {
                let mut inner = Reader::new(reader.enclosed(7, "the range")?);
                let from = moment::read(&mut inner)?;
                let range = Range::Time(from, count(&mut inner)?);
                inner.finish("the range")?;
                reader.finish("ReadRange")?;
                return Ok(Self { object, reference, range: Some(range) });
            }
            Some(_) => return Err(reader.error(Fault::Missing("the range"))),
        };
        let mut inner = Reader::new(reader.enclosed(tag, "the range")?);
        let at = inner.at();
        let first = match Value::read(&mut inner)? {
            Value::Unsigned(number) => u32::try_from(number).map_err(|_| Fault::Value("the first record").at(at))?,
            _ => return Err(Fault::Value("the first record").at(at)),
        };
        let range = of(first, count(&mut inner)?);
        inner.finish("the range")?;
        reader.finish("ReadRange")?;
        Ok(Self { object, reference, range: Some(range) })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_target(out, self.object, &self.reference);
        let mut inner = Vec::new();
        let tag = match self.range {
            None => return,
            Some(Range::Position(first, _)) => {
                Value::from(first).encode(&mut inner);
                3
            }
            Some(Range::Sequence(first, _)) => {
                Value::from(first).encode(&mut inner);
                6
            }
            Some(Range::Time(from, _)) => {
                moment::put(&mut inner, from);
                7
            }
        };
        if let Some(Range::Position(_, count) | Range::Sequence(_, count) | Range::Time(_, count)) = self.range {
            Value::Signed(count.into()).encode(&mut inner);
        }
        put_enclosed(out, tag, &inner);
    }
}

fn count(reader: &mut Reader<'_>) -> Result<i16, DecodeError> {
    let at = reader.at();
    let count = match Value::read(reader)? {
        Value::Signed(count) => i16::try_from(count).ok(),
        _ => None,
    };
    // None at all is nothing to ask for.
    count.filter(|count| *count != 0).ok_or(Fault::Value("the count").at(at))
}

/// Some records of a list.
///
/// Source: ASHRAE 135-2016, clause 15.8.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadRangeAck {
    /// The object.
    pub object: ObjectIdentifier,
    /// The property.
    pub reference: PropertyReference,
    /// Whether the first record of the list is among them.
    pub has_first: bool,
    /// Whether the last record of the list is among them.
    pub has_last: bool,
    /// Whether there are more of those that were asked for.
    pub has_more: bool,
    /// How many.
    pub count: u32,
    /// The records.
    pub items: Content,
    /// The so manieth ever written was the first of them; told where they were asked for by number or time.
    pub first_sequence: Option<u32>,
}

impl ReadRangeAck {
    /// Reads the octets of the answer.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let (object, reference) = read_target(&mut reader)?;
        let at = reader.at();
        let flags = BitString::of_content(reader.required(3, "the flags of the result")?);
        let flags = flags.ok_or(Fault::Value("the flags of the result").at(at))?;
        let count = number(&mut reader, 4, "the count")?;
        let items = Content::checked(reader.enclosed(5, "the records")?);
        let first_sequence = optional_number(&mut reader, 6, "the first number")?;
        reader.finish("the answer to ReadRange")?;
        let (has_first, has_last, has_more) = (flags.has(0), flags.has(1), flags.has(2));
        Ok(Self { object, reference, has_first, has_last, has_more, count, items, first_sequence })
    }

    /// Appends the octets of the answer.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_target(out, self.object, &self.reference);
        let flags = BitString::of(&[self.has_first, self.has_last, self.has_more]);
        tag::write(out, Tag::Context(3), flags.octets().len() + 1);
        out.push(flags.unused());
        out.extend(flags.octets());
        put_unsigned(out, 4, self.count.into());
        put_enclosed(out, 5, self.items.octets());
        if let Some(first) = self.first_sequence {
            put_unsigned(out, 6, first.into());
        }
    }
}
