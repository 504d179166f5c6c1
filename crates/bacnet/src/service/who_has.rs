use super::who_is::{device, put_range, range};
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{character_string, object, put_object, put_text};
use crate::primitive::{ObjectIdentifier, Value};

/// Asks who has an object.
///
/// Source: ASHRAE 135-2016, clause 16.9.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WhoHas {
    /// The lowest and the highest instance of who is asked; everybody when left out.
    pub range: Option<(u32, u32)>,
    /// What is looked for.
    pub wanted: Wanted,
}

/// What is looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wanted {
    /// An object by what it is.
    Object(ObjectIdentifier),
    /// An object by its name.
    Name(String),
}

impl WhoHas {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let range = range(&mut reader)?;
        let at = reader.at();
        let wanted = match reader.optional(2, "the object")? {
            Some(content) => Wanted::Object(object(content, "the object").map_err(|fault| fault.at(at))?),
            None => {
                let name = reader.required(3, "the object or its name")?;
                Wanted::Name(character_string(name).map_err(|fault: Fault| fault.at(at))?)
            }
        };
        reader.finish("Who-Has")?;
        Ok(Self { range, wanted })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_range(self.range, out);
        match &self.wanted {
            Wanted::Object(wanted) => put_object(out, 2, *wanted),
            Wanted::Name(name) => put_text(out, 3, name),
        }
    }
}

/// A device says that it has an object.
///
/// Source: ASHRAE 135-2016, clause 16.9.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IHave {
    /// The device.
    pub device: ObjectIdentifier,
    /// The object.
    pub object: ObjectIdentifier,
    /// Its name.
    pub name: String,
}

impl IHave {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let device = device(&mut reader)?;
        let at = reader.at();
        let Value::ObjectIdentifier(object) = Value::read(&mut reader)? else {
            return Err(Fault::Value("the object").at(at));
        };
        let at = reader.at();
        let Value::CharacterString(name) = Value::read(&mut reader)? else {
            return Err(Fault::Value("the name").at(at));
        };
        reader.finish("I-Have")?;
        Ok(Self { device, object, name })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        Value::from(self.device).encode(out);
        Value::from(self.object).encode(out);
        Value::from(self.name.as_str()).encode(out);
    }
}
