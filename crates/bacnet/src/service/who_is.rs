use crate::apdu::Segmentation;
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{put_unsigned, unsigned_32};
use crate::primitive::{ObjectIdentifier, ObjectType, Value};

/// Asks who is there: everybody, or whose instance lies between two.
///
/// Source: ASHRAE 135-2016, clause 16.10.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WhoIs {
    /// The lowest and the highest instance; everybody when left out.
    pub range: Option<(u32, u32)>,
}

impl WhoIs {
    /// Asks for one.
    #[must_use]
    pub const fn one(instance: u32) -> Self {
        Self { range: Some((instance, instance)) }
    }

    /// Whether an instance is asked for.
    #[must_use]
    pub fn asks(&self, instance: u32) -> bool {
        self.range.is_none_or(|(low, high)| (low..=high).contains(&instance))
    }

    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let range = range(&mut reader)?;
        reader.finish("Who-Is")?;
        Ok(Self { range })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        put_range(self.range, out);
    }
}

/// Both limits, or neither.
pub(super) fn range(reader: &mut Reader<'_>) -> Result<Option<(u32, u32)>, DecodeError> {
    let at = reader.at();
    let Some(low) = reader.optional(0, "the low limit")? else { return Ok(None) };
    let high = reader.required(1, "the high limit")?;
    let limit = |content, what| {
        let limit = unsigned_32(content, what).map_err(|fault| fault.at(at))?;
        if limit > ObjectIdentifier::MOST { Err(Fault::Value(what).at(at)) } else { Ok(limit) }
    };
    Ok(Some((limit(low, "the low limit")?, limit(high, "the high limit")?)))
}

pub(super) fn put_range(range: Option<(u32, u32)>, out: &mut Vec<u8>) {
    if let Some((low, high)) = range {
        put_unsigned(out, 0, low.into());
        put_unsigned(out, 1, high.into());
    }
}

/// A device says who it is.
///
/// Source: ASHRAE 135-2016, clause 16.10.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IAm {
    /// Its device object.
    pub device: ObjectIdentifier,
    /// How many octets a message to it may have.
    pub max_apdu: u32,
    /// Whether it sends and takes segments.
    pub segmentation: Segmentation,
    /// The number of its maker.
    pub vendor: u32,
}

/// The device object, as values say it.
pub(super) fn device(reader: &mut Reader<'_>) -> Result<ObjectIdentifier, DecodeError> {
    let at = reader.at();
    match Value::read(reader)? {
        Value::ObjectIdentifier(device) if device.object_type() == ObjectType::DEVICE => Ok(device),
        _ => Err(Fault::Value("the device").at(at)),
    }
}

impl IAm {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let device = device(&mut reader)?;
        let mut number = |what, is_enumerated: bool| {
            let at = reader.at();
            match Value::read(&mut reader)? {
                Value::Unsigned(number) if !is_enumerated => {
                    u32::try_from(number).map_err(|_| Fault::Value(what).at(at))
                }
                Value::Enumerated(number) if is_enumerated => Ok(number),
                _ => Err(Fault::Value(what).at(at)),
            }
        };
        let max_apdu = number("the largest message", false)?;
        let segmentation = number("the segmentation", true)?;
        let vendor = number("the maker", false)?;
        let segmentation = Segmentation::of_number(segmentation).map_err(|fault| reader.error(fault))?;
        reader.finish("I-Am")?;
        Ok(Self { device, max_apdu, segmentation, vendor })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        Value::from(self.device).encode(out);
        Value::from(self.max_apdu).encode(out);
        Value::Enumerated(self.segmentation.number()).encode(out);
        Value::from(self.vendor).encode(out);
    }
}
