use super::bit_string::BitString;
use super::datetime::{Date, Time};
use super::object::ObjectIdentifier;
use super::tag::{self, BOOLEAN, Tag, TagHeader};
use super::text;
use crate::codec::{DecodeError, Fault, Reader};
use std::fmt;

/// One value of a primitive type.
///
/// Source: ASHRAE 135-2016, clause 20.2.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Nothing: what nobody commands.
    Null,
    /// True or false.
    Boolean(bool),
    /// A whole number from 0 on.
    Unsigned(u64),
    /// A whole number.
    Signed(i64),
    /// A number of single precision.
    Real(f32),
    /// A number of double precision.
    Double(f64),
    /// Octets.
    OctetString(Vec<u8>),
    /// A text.
    CharacterString(String),
    /// Bits.
    BitString(BitString),
    /// One of several, by its number.
    Enumerated(u32),
    /// A date.
    Date(Date),
    /// A time of the day.
    Time(Time),
    /// An object.
    ObjectIdentifier(ObjectIdentifier),
}

/// The octets of a whole number, as few as it needs.
pub(crate) fn unsigned_octets(number: u64) -> ([u8; 8], usize) {
    let octets = number.to_be_bytes();
    let leading = octets.iter().take_while(|octet| **octet == 0).count().min(7);
    (octets, leading)
}

/// A whole number from its octets.
pub(crate) fn unsigned(content: &[u8], what: &'static str) -> Result<u64, Fault> {
    let mut octets = [0; 8];
    let from = octets.len().checked_sub(content.len()).filter(|from| *from < 8).ok_or(Fault::Size(what))?;
    octets.get_mut(from..).ok_or(Fault::Size(what))?.copy_from_slice(content);
    Ok(u64::from_be_bytes(octets))
}

/// A whole number of at most 32 bits from its octets.
pub(crate) fn unsigned_32(content: &[u8], what: &'static str) -> Result<u32, Fault> {
    u32::try_from(unsigned(content, what)?).map_err(|_| Fault::Value(what))
}

pub(crate) fn signed(content: &[u8], what: &'static str) -> Result<i64, Fault> {
    let fill = if content.first().is_some_and(|first| first & 0x80 != 0) { 0xFF } else { 0 };
    let mut octets = [fill; 8];
    let from = octets.len().checked_sub(content.len()).filter(|from| *from < 8).ok_or(Fault::Size(what))?;
    octets.get_mut(from..).ok_or(Fault::Size(what))?.copy_from_slice(content);
    Ok(i64::from_be_bytes(octets))
}

fn fixed<const N: usize>(content: &[u8], what: &'static str) -> Result<[u8; N], Fault> {
    content.try_into().map_err(|_| Fault::Size(what))
}

/// A Boolean in a context tag has its value in an octet of its own.
pub(crate) fn boolean(content: &[u8], what: &'static str) -> Result<bool, Fault> {
    match content {
        [0] => Ok(false),
        [1] => Ok(true),
        [_] => Err(Fault::Value(what)),
        _ => Err(Fault::Size(what)),
    }
}

pub(crate) fn object(content: &[u8], what: &'static str) -> Result<ObjectIdentifier, Fault> {
    fixed(content, what).map(u32::from_be_bytes).map(ObjectIdentifier::from_bits)
}

pub(crate) fn real(content: &[u8], what: &'static str) -> Result<f32, Fault> {
    fixed(content, what).map(f32::from_be_bytes)
}

pub(crate) fn character_string(content: &[u8]) -> Result<String, Fault> {
    text::read(content)
}

/// Appends a parameter: a whole number under a context tag.
pub(crate) fn put_unsigned(out: &mut Vec<u8>, number: u8, value: u64) {
    let (octets, leading) = unsigned_octets(value);
    tag::write(out, Tag::Context(number), octets.len() - leading);
    out.extend(octets.iter().skip(leading));
}

pub(crate) fn put_object(out: &mut Vec<u8>, number: u8, object: ObjectIdentifier) {
    tag::write(out, Tag::Context(number), 4);
    out.extend(object.bits().to_be_bytes());
}

pub(crate) fn put_boolean(out: &mut Vec<u8>, number: u8, value: bool) {
    tag::write(out, Tag::Context(number), 1);
    out.push(value.into());
}

pub(crate) fn put_text(out: &mut Vec<u8>, number: u8, value: &str) {
    tag::write(out, Tag::Context(number), value.len() + 1);
    text::write(out, value);
}

impl Value {
    fn of_content(kind: u8, length: u32, content: &[u8]) -> Result<Self, Fault> {
        Ok(match kind {
            0 if content.is_empty() => Self::Null,
            0 => return Err(Fault::Size("a Null")),
            BOOLEAN => Self::Boolean(length == 1),
            2 => Self::Unsigned(unsigned(content, "an Unsigned")?),
            3 => Self::Signed(signed(content, "an INTEGER")?),
            4 => Self::Real(real(content, "a Real")?),
            5 => Self::Double(f64::from_be_bytes(fixed(content, "a Double")?)),
            6 => Self::OctetString(content.to_vec()),
            7 => Self::CharacterString(text::read(content)?),
            8 => Self::BitString(BitString::of_content(content).ok_or(Fault::Value("a BitString"))?),
            9 => Self::Enumerated(unsigned_32(content, "an Enumerated")?),
            10 => Self::Date(Date::from_octets(fixed(content, "a Date")?)),
            11 => Self::Time(Time::from_octets(fixed(content, "a Time")?)),
            12 => Self::ObjectIdentifier(object(content, "an ObjectIdentifier")?),
            kind => return Err(Fault::ApplicationTag(kind)),
        })
    }

    /// The value that comes next, under its application tag.
    pub(crate) fn read(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let at = from.at();
        let header = TagHeader::read(from)?;
        let Tag::Application(kind) = header.tag else { return Err(Fault::Missing("a value").at(at)) };
        let content = from.take(header.content(from)?, "a value")?;
        Self::of_content(kind, header.length, content).map_err(|fault| fault.at(at))
    }

    /// Reads one value, and nothing else.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(octets: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(octets);
        let value = Self::read(&mut reader)?;
        reader.finish("a value")?;
        Ok(value)
    }

    /// Appends the value under its application tag.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let fixed = |out: &mut Vec<u8>, kind, content: &[u8]| {
            tag::write(out, Tag::Application(kind), content.len());
            out.extend(content);
        };
        match self {
            Self::Null => out.push(0),
            Self::Boolean(value) => tag::write(out, Tag::Application(BOOLEAN), usize::from(*value)),
            Self::Unsigned(number) => {
                let (octets, leading) = unsigned_octets(*number);
                fixed(out, 2, octets.get(leading..).unwrap_or_default());
            }
            Self::Signed(number) => {
                let octets = number.to_be_bytes();
                // What only repeats the sign is left out.
                let is_needed = |pair: &&[u8; 2]| !matches!(pair, [0, 0..=0x7F] | [0xFF, 0x80..=0xFF]);
                let leading = octets.array_windows().take_while(|pair| !is_needed(pair)).count();
                fixed(out, 3, octets.get(leading..).unwrap_or_default());
            }
            Self::Real(number) => fixed(out, 4, &number.to_be_bytes()),
            Self::Double(number) => fixed(out, 5, &number.to_be_bytes()),
            Self::OctetString(octets) => fixed(out, 6, octets),
            Self::CharacterString(value) => {
                tag::write(out, Tag::Application(7), value.len() + 1);
                text::write(out, value);
            }
            Self::BitString(bits) => {
                tag::write(out, Tag::Application(8), bits.octets().len() + 1);
                out.push(bits.unused());
                out.extend(bits.octets());
            }
            Self::Enumerated(number) => {
                let (octets, leading) = unsigned_octets((*number).into());
                fixed(out, 9, octets.get(leading..).unwrap_or_default());
            }
            Self::Date(date) => fixed(out, 10, &date.octets()),
            Self::Time(time) => fixed(out, 11, &time.octets()),
            Self::ObjectIdentifier(object) => fixed(out, 12, &object.bits().to_be_bytes()),
        }
    }

    /// The number, where it is a number that counts from 0.
    #[must_use]
    pub const fn as_unsigned(&self) -> Option<u64> {
        match self {
            Self::Unsigned(number) => Some(*number),
            Self::Enumerated(number) => Some(*number as u64),
            _ => None,
        }
    }

    /// The number, where it is a number.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 are rounded, which who asks for f64 knows")]
    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Self::Unsigned(number) => Some(*number as f64),
            Self::Enumerated(number) => Some((*number).into()),
            Self::Signed(number) => Some(*number as f64),
            Self::Real(number) => Some((*number).into()),
            Self::Double(number) => Some(*number),
            Self::Boolean(value) => Some(f64::from(u8::from(*value))),
            _ => None,
        }
    }

    /// The text, where it is one.
    #[must_use]
    pub fn as_str(&self) -> Option<&str> {
        if let Self::CharacterString(text) = self { Some(text) } else { None }
    }
}

/// For people.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Null => f.write_str("null"),
            Self::Boolean(value) => value.fmt(f),
            Self::Unsigned(number) => number.fmt(f),
            Self::Enumerated(number) => number.fmt(f),
            Self::Signed(number) => number.fmt(f),
            Self::Real(number) => number.fmt(f),
            Self::Double(number) => number.fmt(f),
            Self::OctetString(octets) => octets.iter().try_for_each(|octet| write!(f, "{octet:02x}")),
            Self::CharacterString(text) => write!(f, "{text:?}"),
            Self::BitString(bits) => bits.fmt(f),
            Self::Date(date) => date.fmt(f),
            Self::Time(time) => time.fmt(f),
            Self::ObjectIdentifier(object) => object.fmt(f),
        }
    }
}

macro_rules! from {
    ($($type:ty => $kind:ident),*) => {
        $(impl From<$type> for Value {
            fn from(value: $type) -> Self {
                Self::$kind(value.into())
            }
        })*
    };
}

from!(bool => Boolean, u64 => Unsigned, u32 => Unsigned, f32 => Real, f64 => Double, &str => CharacterString, String => CharacterString,
      BitString => BitString, Date => Date, Time => Time, ObjectIdentifier => ObjectIdentifier);
