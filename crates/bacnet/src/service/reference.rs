use crate::codec::{DecodeError, Reader};
use crate::primitive::value::{object, put_object, put_unsigned, unsigned_32};
use crate::primitive::{ObjectIdentifier, PropertyIdentifier};
use std::fmt;

/// A property of an object, or one element of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PropertyReference {
    /// The property.
    pub property: PropertyIdentifier,
    /// Which element, from 1; 0 is how many there are.
    pub index: Option<u32>,
}

impl From<PropertyIdentifier> for PropertyReference {
    fn from(property: PropertyIdentifier) -> Self {
        Self { property, index: None }
    }
}

/// `object-list[5]`
impl fmt::Display for PropertyReference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.property)?;
        self.index.map_or(Ok(()), |index| write!(f, "[{index}]"))
    }
}

impl PropertyReference {
    /// Reads it from the tags that it has in a service.
    pub(super) fn read(reader: &mut Reader<'_>, property_tag: u8, index_tag: u8) -> Result<Self, DecodeError> {
        let property = PropertyIdentifier(number(reader, property_tag, "the property")?);
        Ok(Self { property, index: optional_number(reader, index_tag, "the array index")? })
    }

    pub(super) fn put(&self, out: &mut Vec<u8>, property_tag: u8, index_tag: u8) {
        put_unsigned(out, property_tag, self.property.0.into());
        if let Some(index) = self.index {
            put_unsigned(out, index_tag, index.into());
        }
    }
}

pub(super) fn number(reader: &mut Reader<'_>, tag: u8, what: &'static str) -> Result<u32, DecodeError> {
    let at = reader.at();
    unsigned_32(reader.required(tag, what)?, what).map_err(|fault| fault.at(at))
}

pub(super) fn optional_number(
    reader: &mut Reader<'_>,
    tag: u8,
    what: &'static str,
) -> Result<Option<u32>, DecodeError> {
    let at = reader.at();
    let content = reader.optional(tag, what)?;
    content.map(|content| unsigned_32(content, what).map_err(|fault| fault.at(at))).transpose()
}

/// An object under a context tag.
pub(super) fn read_object(reader: &mut Reader<'_>, tag: u8) -> Result<ObjectIdentifier, DecodeError> {
    let at = reader.at();
    object(reader.required(tag, "the object")?, "the object").map_err(|fault| fault.at(at))
}

/// An object with one of its properties, as several services begin.
pub(super) fn read_target(reader: &mut Reader<'_>) -> Result<(ObjectIdentifier, PropertyReference), DecodeError> {
    Ok((read_object(reader, 0)?, PropertyReference::read(reader, 1, 2)?))
}

pub(super) fn put_target(out: &mut Vec<u8>, object: ObjectIdentifier, reference: &PropertyReference) {
    put_object(out, 0, object);
    reference.put(out, 1, 2);
}
