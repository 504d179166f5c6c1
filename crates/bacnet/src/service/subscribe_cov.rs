use super::read_property::put_enclosed;
use super::reference::{PropertyReference, number, optional_number, read_object};
use crate::codec::{DecodeError, Reader};
use crate::primitive::value::{boolean, put_boolean, put_object, put_unsigned, real};
use crate::primitive::{ObjectIdentifier, Tag, tag};

/// Asks to be told changes of an object, or of one of its properties, for a while; or no more.
///
/// Source: ASHRAE 135-2016, clauses 13.14 (SubscribeCOV) and 13.15 (SubscribeCOVProperty).
#[derive(Debug, Clone, PartialEq)]
pub struct SubscribeCov {
    /// By what the subscriber knows what it is told; not 0.
    pub process: u32,
    /// The object.
    pub object: ObjectIdentifier,
    /// How it wants to be told; not any more when left out.
    pub terms: Option<CovTerms>,
    /// The property, with by how much it has to move, where it is not the present value as the object tells it.
    pub property: Option<(PropertyReference, Option<f32>)>,
}

/// How changes are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CovTerms {
    /// Whether each has to be acknowledged.
    pub is_confirmed: bool,
    /// For how many seconds; 0 for ever.
    pub lifetime: u32,
}

impl SubscribeCov {
    /// Reads the octets of SubscribeCOV.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let subscription = Self::read(&mut reader)?;
        reader.finish("SubscribeCOV")?;
        Ok(subscription)
    }

    /// Reads the octets of SubscribeCOVProperty.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode_property(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let mut subscription = Self::read(&mut reader)?;
        let mut property = Reader::new(reader.enclosed(4, "the property")?);
        let reference = PropertyReference::read(&mut property, 0, 1)?;
        property.finish("the property")?;
        let at = reader.at();
        let increment = reader.optional(5, "the increment")?;
        let increment = increment.map(|content| real(content, "the increment")).transpose();
        subscription.property = Some((reference, increment.map_err(|fault| fault.at(at))?));
        reader.finish("SubscribeCOVProperty")?;
        Ok(subscription)
    }

    fn read(reader: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let process = number(reader, 0, "the process")?;
        let object = read_object(reader, 1)?;
        let at = reader.at();
        let is_confirmed = reader.optional(2, "whether it is confirmed")?;
        let is_confirmed = is_confirmed.map(|content| boolean(content, "whether it is confirmed"));
        let is_confirmed = is_confirmed.transpose().map_err(|fault| fault.at(at))?;
        let lifetime = optional_number(reader, 3, "the lifetime")?;
        // Without both, it is cancelled.
        let terms = is_confirmed.map(|is_confirmed| CovTerms { is_confirmed, lifetime: lifetime.unwrap_or(0) });
        Ok(Self { process, object, terms, property: None })
    }

    /// Appends the octets of SubscribeCOV, or of SubscribeCOVProperty where it is about one.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_unsigned(out, 0, self.process.into());
        put_object(out, 1, self.object);
        if let Some(terms) = self.terms {
            put_boolean(out, 2, terms.is_confirmed);
            put_unsigned(out, 3, terms.lifetime.into());
        }
        let Some((reference, increment)) = &self.property else { return };
        let mut property = Vec::new();
        reference.put(&mut property, 0, 1);
        put_enclosed(out, 4, &property);
        if let Some(increment) = increment {
            tag::write(out, Tag::Context(5), 4);
            out.extend(increment.to_be_bytes());
        }
    }
}
