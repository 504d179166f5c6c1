use super::read_property::put_enclosed;
use super::reference::{PropertyReference, number, optional_number, put_target, read_object, read_target};
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{put_object, put_unsigned};
use crate::primitive::{Content, ObjectIdentifier, Tag, tag};
use std::fmt;

/// At which of 16 places a value is commanded: 1 goes before all others, 16 comes last.
///
/// Source: ASHRAE 135-2016, clause 19.2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Priority(u8);

impl Priority {
    /// Where it is written when nothing is said.
    pub const LOWEST: Self = Self(16);
    /// Kept for the minimum times of on and off: nobody may write there.
    pub const MINIMUM_ON_OFF: Self = Self(6);

    /// A place, 1 to 16.
    #[must_use]
    pub const fn new(number: u8) -> Option<Self> {
        if number >= 1 && number <= 16 { Some(Self(number)) } else { None }
    }

    /// Its number.
    #[must_use]
    pub const fn number(self) -> u8 {
        self.0
    }

    fn read(reader: &mut Reader<'_>, tag: u8) -> Result<Option<Self>, DecodeError> {
        let at = reader.at();
        let Some(number) = optional_number(reader, tag, "the priority")? else { return Ok(None) };
        let priority = u8::try_from(number).ok().and_then(Self::new);
        Ok(Some(priority.ok_or(Fault::Value("the priority").at(at))?))
    }

    fn put(priority: Option<Self>, out: &mut Vec<u8>, tag: u8) {
        if let Some(priority) = priority {
            put_unsigned(out, tag, priority.0.into());
        }
    }
}

impl fmt::Display for Priority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Writes a property; Null gives a commanded value back.
///
/// Source: ASHRAE 135-2016, clause 15.9.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriteProperty {
    /// The object.
    pub object: ObjectIdentifier,
    /// The property.
    pub reference: PropertyReference,
    /// What it is to hold.
    pub value: Content,
    /// At which place, where it is commanded.
    pub priority: Option<Priority>,
}

impl WriteProperty {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let (object, reference) = read_target(&mut reader)?;
        let value = Content::checked(reader.enclosed(3, "the value")?);
        let priority = Priority::read(&mut reader, 4)?;
        reader.finish("WriteProperty")?;
        Ok(Self { object, reference, value, priority })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_target(out, self.object, &self.reference);
        put_enclosed(out, 3, self.value.octets());
        Priority::put(self.priority, out, 4);
    }
}

/// Writes several properties, one after the other, until one fails.
///
/// Source: ASHRAE 135-2016, clause 15.10.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct WritePropertyMultiple(pub Vec<WriteProperty>);

impl WritePropertyMultiple {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let mut all = Vec::new();
        while !reader.is_empty() {
            let object = read_object(&mut reader, 0)?;
            reader.expect(Tag::Opening(1), "the list of values")?;
            while !reader.eat(Tag::Closing(1))? {
                let reference = PropertyReference::read(&mut reader, 0, 1)?;
                let value = Content::checked(reader.enclosed(2, "the value")?);
                let priority = Priority::read(&mut reader, 3)?;
                all.push(WriteProperty { object, reference, value, priority });
            }
        }
        if all.is_empty() { Err(reader.error(Fault::Missing("the object"))) } else { Ok(Self(all)) }
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        for of_object in self.0.chunk_by(|one, other| one.object == other.object) {
            let Some(first) = of_object.first() else { continue };
            put_object(out, 0, first.object);
            tag::write(out, Tag::Opening(1), 0);
            for write in of_object {
                write.reference.put(out, 0, 1);
                put_enclosed(out, 2, write.value.octets());
                Priority::put(write.priority, out, 3);
            }
            tag::write(out, Tag::Closing(1), 0);
        }
    }

    /// Which write failed, as the error of the service says behind its reason.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode_failed(data: &[u8]) -> Result<(ObjectIdentifier, PropertyReference), DecodeError> {
        let mut reader = Reader::new(data);
        reader.enclosed(0, "the error")?;
        let mut failed = Reader::new(reader.enclosed(1, "the first write that failed")?);
        Ok((read_object(&mut failed, 0)?, {
            let property = crate::primitive::PropertyIdentifier(number(&mut failed, 1, "the property")?);
            PropertyReference { property, index: optional_number(&mut failed, 2, "the array index")? }
        }))
    }
}
