use super::reference::{PropertyReference, put_target, read_target};
use crate::codec::{DecodeError, Reader};
use crate::primitive::{Content, ObjectIdentifier, Tag, tag};

/// Asks for a property.
///
/// Source: ASHRAE 135-2016, clause 15.5.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReadProperty {
    /// The object.
    pub object: ObjectIdentifier,
    /// The property.
    pub reference: PropertyReference,
}

impl ReadProperty {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let (object, reference) = read_target(&mut reader)?;
        reader.finish("ReadProperty")?;
        Ok(Self { object, reference })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_target(out, self.object, &self.reference);
    }
}

/// What a property holds.
///
/// Source: ASHRAE 135-2016, clause 15.5.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadPropertyAck {
    /// The object.
    pub object: ObjectIdentifier,
    /// The property.
    pub reference: PropertyReference,
    /// What it holds.
    pub value: Content,
}

impl ReadPropertyAck {
    /// Reads the octets of the answer.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let (object, reference) = read_target(&mut reader)?;
        let value = Content::checked(reader.enclosed(3, "the value")?);
        reader.finish("the answer to ReadProperty")?;
        Ok(Self { object, reference, value })
    }

    /// Appends the octets of the answer.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_target(out, self.object, &self.reference);
        put_enclosed(out, 3, self.value.octets());
    }
}

/// Appends octets between tags.
pub(super) fn put_enclosed(out: &mut Vec<u8>, number: u8, octets: &[u8]) {
    tag::write(out, Tag::Opening(number), 0);
    out.extend(octets);
    tag::write(out, Tag::Closing(number), 0);
}
