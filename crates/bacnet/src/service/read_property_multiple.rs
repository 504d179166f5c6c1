use super::read_property::put_enclosed;
use super::reference::{PropertyReference, read_object};
use crate::apdu::Error;
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::put_object;
use crate::primitive::{Content, ObjectIdentifier, Tag, tag};

/// Asks for several properties of several objects.
///
/// Source: ASHRAE 135-2016, clause 15.7.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReadPropertyMultiple(pub Vec<ReadAccess>);

/// Properties of one object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadAccess {
    /// The object.
    pub object: ObjectIdentifier,
    /// Its properties.
    pub properties: Vec<PropertyReference>,
}

impl ReadPropertyMultiple {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let mut all = Vec::new();
        while !reader.is_empty() {
            let object = read_object(&mut reader, 0)?;
            reader.expect(Tag::Opening(1), "the list of properties")?;
            let mut properties = Vec::new();
            while !reader.eat(Tag::Closing(1))? {
                properties.push(PropertyReference::read(&mut reader, 0, 1)?);
            }
            all.push(ReadAccess { object, properties });
        }
        if all.is_empty() { Err(reader.error(Fault::Missing("the object"))) } else { Ok(Self(all)) }
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        for access in &self.0 {
            put_object(out, 0, access.object);
            tag::write(out, Tag::Opening(1), 0);
            access.properties.iter().for_each(|reference| reference.put(out, 0, 1));
            tag::write(out, Tag::Closing(1), 0);
        }
    }
}

/// What properties hold, or why not.
///
/// Source: ASHRAE 135-2016, clause 15.7.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReadPropertyMultipleAck(pub Vec<ReadResult>);

/// What properties of one object hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadResult {
    /// The object.
    pub object: ObjectIdentifier,
    /// Each property with what it holds, or why that is not told.
    pub results: Vec<(PropertyReference, Result<Content, Error>)>,
}

impl ReadPropertyMultipleAck {
    /// Reads the octets of the answer.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let mut all = Vec::new();
        while !reader.is_empty() {
            let object = read_object(&mut reader, 0)?;
            reader.expect(Tag::Opening(1), "the list of results")?;
            let mut results = Vec::new();
            while !reader.eat(Tag::Closing(1))? {
                let reference = PropertyReference::read(&mut reader, 2, 3)?;
                let outcome = if reader.next_tag() == Some(Tag::Opening(5)) {
                    let mut error = Reader::new(reader.enclosed(5, "the error")?);
                    let outcome = Error::read(&mut error)?;
                    error.finish("the error")?;
                    Err(outcome)
                } else {
                    Ok(Content::checked(reader.enclosed(4, "the value or the error")?))
                };
                results.push((reference, outcome));
            }
            all.push(ReadResult { object, results });
        }
        Ok(Self(all))
    }

    /// Appends the octets of the answer.
    pub fn encode(&self, out: &mut Vec<u8>) {
        for result in &self.0 {
            put_object(out, 0, result.object);
            tag::write(out, Tag::Opening(1), 0);
            for (reference, outcome) in &result.results {
                reference.put(out, 2, 3);
                match outcome {
                    Ok(value) => put_enclosed(out, 4, value.octets()),
                    Err(error) => {
                        let mut octets = Vec::new();
                        error.encode(&mut octets);
                        put_enclosed(out, 5, &octets);
                    }
                }
            }
            tag::write(out, Tag::Closing(1), 0);
        }
    }
}
