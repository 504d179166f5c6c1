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

    /// Appends the octets of the service for these properties, without keeping them: neighbours of the same object stand together.
    pub fn encode_each(properties: impl IntoIterator<Item = (ObjectIdentifier, PropertyReference)>, out: &mut Vec<u8>) {
        let mut last = None;
        for (object, reference) in properties {
            if last != Some(object) {
                if last.is_some() {
                    tag::write(out, Tag::Closing(1), 0);
                }
                last = Some(object);
                put_object(out, 0, object);
                tag::write(out, Tag::Opening(1), 0);
            }
            reference.put(out, 0, 1);
        }
        if last.is_some() {
            tag::write(out, Tag::Closing(1), 0);
        }
    }
}

/// What properties hold, or why not.
///
/// Source: ASHRAE 135-2016, clause 15.7.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReadPropertyMultipleAck(pub Vec<ReadResult>);

/// A property with what it holds, or why that is not told.
pub type PropertyResult = (PropertyReference, Result<Content, Error>);

/// What properties of one object hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadResult {
    /// The object.
    pub object: ObjectIdentifier,
    /// Each property with what it holds, or why that is not told.
    pub results: Vec<PropertyResult>,
}

/// An object and one of its properties, with what it holds or why that is not told.
pub type EachResult = (ObjectIdentifier, PropertyReference, Result<Content, Error>);

/// The next result of an object; none at the end of its results.
fn read_result(reader: &mut Reader<'_>) -> Result<Option<PropertyResult>, DecodeError> {
    if reader.eat(Tag::Closing(1))? {
        return Ok(None);
    }
    let reference = PropertyReference::read(reader, 2, 3)?;
    let outcome = if reader.next_tag() == Some(Tag::Opening(5)) {
        let mut error = Reader::new(reader.enclosed(5, "the error")?);
        let outcome = Error::read(&mut error)?;
        error.finish("the error")?;
        Err(outcome)
    } else {
        Ok(Content::checked(reader.enclosed(4, "the value or the error")?))
    };
    Ok(Some((reference, outcome)))
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
            while let Some(result) = read_result(&mut reader)? {
                results.push(result);
            }
            all.push(ReadResult { object, results });
        }
        Ok(Self(all))
    }

    /// Reads the octets of the answer, one property after the other.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode_each(data: &[u8]) -> Result<Vec<EachResult>, DecodeError> {
        let mut reader = Reader::new(data);
        // What a value takes at the least, with its tags, its property and its share of the object.
        let mut all = Vec::with_capacity(data.len() / 8);
        while !reader.is_empty() {
            let object = read_object(&mut reader, 0)?;
            reader.expect(Tag::Opening(1), "the list of results")?;
            while let Some((reference, outcome)) = read_result(&mut reader)? {
                all.push((object, reference, outcome));
            }
        }
        Ok(all)
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
