use super::read_property::put_enclosed;
use super::reference::{PropertyReference, number, optional_number, read_object};
use crate::codec::{DecodeError, Reader};
use crate::primitive::value::{put_object, put_unsigned};
use crate::primitive::{Content, ObjectIdentifier, PropertyIdentifier, Tag, tag};

/// A value changed.
///
/// Source: ASHRAE 135-2016, clause 13.1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CovNotification {
    /// By what the subscriber knows it.
    pub process: u32,
    /// Who tells it.
    pub device: ObjectIdentifier,
    /// Whose value.
    pub object: ObjectIdentifier,
    /// For how many seconds changes are told without being asked for anew; 0 for ever.
    pub time_remaining: u32,
    /// The properties with what they hold now.
    pub values: Vec<(PropertyReference, Content)>,
}

impl CovNotification {
    /// What a property holds now, where it is told.
    #[must_use]
    pub fn value(&self, property: PropertyIdentifier) -> Option<&Content> {
        let is_meant = |told: &&(PropertyReference, Content)| told.0 == property.into();
        self.values.iter().find(is_meant).map(|(_, value)| value)
    }

    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let process = number(&mut reader, 0, "the process")?;
        let (device, object) = (read_object(&mut reader, 1)?, read_object(&mut reader, 2)?);
        let time_remaining = number(&mut reader, 3, "the time that remains")?;
        reader.expect(Tag::Opening(4), "the list of values")?;
        let mut values = Vec::new();
        while !reader.eat(Tag::Closing(4))? {
            let reference = PropertyReference::read(&mut reader, 0, 1)?;
            values.push((reference, Content::checked(reader.enclosed(2, "the value")?)));
            // At which priority it was written: nobody here asks.
            optional_number(&mut reader, 3, "the priority")?;
        }
        reader.finish("the notification")?;
        Ok(Self { process, device, object, time_remaining, values })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_unsigned(out, 0, self.process.into());
        put_object(out, 1, self.device);
        put_object(out, 2, self.object);
        put_unsigned(out, 3, self.time_remaining.into());
        tag::write(out, Tag::Opening(4), 0);
        for (reference, value) in &self.values {
            reference.put(out, 0, 1);
            put_enclosed(out, 2, value.octets());
        }
        tag::write(out, Tag::Closing(4), 0);
    }
}
