use super::object::ObjectIdentifier;
use super::property::PropertyIdentifier;
use super::tag::{Tag, TagHeader};
use super::value::{self, Value, put_object, put_unsigned, unsigned_32};
use crate::codec::{DecodeError, Fault, Reader};
use smallvec::SmallVec;
use std::fmt;

/// What a property holds: well-formed tagged octets, one value or several, or what only its property knows how to read, such as a
/// weekly schedule.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Content(SmallVec<[u8; ROOM]>);

/// As many octets as nearly all values have; they need no memory of their own.
const ROOM: usize = 16;

/// One part of a [`Content`].
#[derive(Debug, Clone, PartialEq)]
pub enum Element<'a> {
    /// A value with its type.
    Value(Value),
    /// A value whose type follows from its place.
    Context(u8, &'a [u8]),
    /// Something that belongs together.
    Constructed(u8, Content),
}

impl Content {
    /// These values, one after the other.
    #[must_use]
    pub fn of(values: &[Value]) -> Self {
        let mut octets = Vec::new();
        values.iter().for_each(|value| value.encode(&mut octets));
        Self(octets.into())
    }

    /// Octets, once they are found to be well formed.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(octets: &[u8]) -> Result<Self, DecodeError> {
        Reader::new(octets).skip_until(None)?;
        Ok(Self::checked(octets))
    }

    /// A reference to a property of an object of the same device (BACnetDeviceObjectPropertyReference).
    ///
    /// Source: ASHRAE 135-2016, clause 21.
    #[must_use]
    pub fn reference(object: ObjectIdentifier, property: PropertyIdentifier) -> Self {
        let mut octets = Vec::new();
        put_object(&mut octets, 0, object);
        put_unsigned(&mut octets, 1, property.0.into());
        Self(octets.into())
    }

    /// The object and the property that a reference names, and the device where it names one.
    #[must_use]
    pub fn referenced(&self) -> Option<(ObjectIdentifier, PropertyIdentifier, Option<ObjectIdentifier>)> {
        let mut reader = Reader::new(&self.0);
        let object = value::object(reader.required(0, "the object").ok()?, "the object").ok()?;
        let property = unsigned_32(reader.required(1, "the property").ok()?, "the property").ok()?;
        reader.optional(2, "the array index").ok()?;
        let device = reader.optional(3, "the device").ok()?;
        let device = device.map(|content| value::object(content, "the device")).transpose().ok()?;
        Some((object, PropertyIdentifier(property), device))
    }

    /// Several, one after the other.
    pub(crate) fn joined(parts: &[Self]) -> Self {
        Self(parts.iter().flat_map(|part| part.0.iter().copied()).collect())
    }

    /// Octets that are known to be well formed.
    pub(crate) fn checked(octets: &[u8]) -> Self {
        Self(SmallVec::from_slice(octets))
    }

    /// The octets.
    #[must_use]
    pub fn octets(&self) -> &[u8] {
        &self.0
    }

    /// Its parts; an error where a value is none.
    pub fn elements(&self) -> impl Iterator<Item = Result<Element<'_>, DecodeError>> {
        let mut reader = Reader::new(&self.0);
        std::iter::from_fn(move || {
            if reader.is_empty() {
                return None;
            }
            let element = element(&mut reader);
            if element.is_err() {
                reader = Reader::new(&[]);
            }
            Some(element)
        })
    }

    /// All values; an error where one is none, or where something else stands among them.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn values(&self) -> Result<Vec<Value>, DecodeError> {
        let mut reader = Reader::new(&self.0);
        let mut values = Vec::new();
        while !reader.is_empty() {
            values.push(Value::read(&mut reader)?);
        }
        Ok(values)
    }

    /// The value, where it is exactly one.
    #[must_use]
    pub fn one(&self) -> Option<Value> {
        Value::decode(&self.0).ok()
    }
}

fn element<'a>(reader: &mut Reader<'a>) -> Result<Element<'a>, DecodeError> {
    match reader.next_tag() {
        Some(Tag::Context(number)) => Ok(Element::Context(number, reader.required(number, "a value")?)),
        Some(Tag::Opening(number)) => {
            Ok(Element::Constructed(number, Content::checked(reader.enclosed(number, "an opening tag")?)))
        }
        Some(Tag::Closing(number)) => Err(reader.error(Fault::Unpaired(number))),
        Some(Tag::Application(_)) => Value::read(reader).map(Element::Value),
        // Whatever is wrong with the tag.
        None => TagHeader::read(reader).and(Err(reader.error(Fault::Missing("a tag")))),
    }
}

/// For people: the values, else the octets.
impl fmt::Display for Content {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Ok(values) = self.values() else {
            return self.0.iter().try_for_each(|octet| write!(f, "{octet:02x}"));
        };
        match values.as_slice() {
            [one] => one.fmt(f),
            several => {
                f.write_str("{")?;
                for (at, value) in several.iter().enumerate() {
                    write!(f, "{}{value}", if at == 0 { "" } else { ", " })?;
                }
                f.write_str("}")
            }
        }
    }
}
