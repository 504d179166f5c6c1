use super::{
    ByteString, DataValue, DateTime, DiagnosticInfo, ExpandedNodeId, ExtensionObject, Guid, LocalizedText, NodeId,
    QualifiedName, StatusCode, XmlElement,
};
use crate::codec::{Binary, DecodeError, Fault, Reader};

/// A value of any built-in type, one or many.
///
/// Source: OPC 10000-6, section 5.2.2.16.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Variant {
    /// Nothing.
    #[default]
    Null,
    /// One value.
    Scalar(Scalar),
    /// Several in a row.
    Array(Array),
    /// Several in more dimensions than one: the last one varies fastest.
    Matrix(Array, Vec<i32>),
}

/// In the first byte: the type.
const TYPE: u8 = 0x3F;
const HAS_DIMENSIONS: u8 = 0x40;
const IS_ARRAY: u8 = 0x80;
const VARIANT: u8 = 24;
const BYTE_STRING: u8 = 15;
const LAST: u8 = 25;

macro_rules! built_in {
    ($($number:literal $name:ident($element:ty) $(in $boxed:ident)?: $doc:literal;)*) => {
        /// One value of a built-in type.
        #[derive(Debug, Clone, PartialEq)]
        pub enum Scalar {
            $(#[doc = $doc] $name(built_in!(@scalar $element $(, $boxed)?)),)*
        }

        /// Values of one built-in type.
        #[derive(Debug, Clone, PartialEq)]
        pub enum Array {
            $(#[doc = $doc] $name(Vec<$element>),)*
            /// Values of any types.
            Variant(Vec<Variant>),
        }

        impl Scalar {
            /// The number of its type.
            #[must_use]
            pub const fn type_number(&self) -> u8 {
                match self { $(Self::$name(_) => $number,)* }
            }

            pub(crate) fn encode(&self, out: &mut Vec<u8>) {
                match self { $(Self::$name(value) => value.encode(out),)* }
            }

            #[inline]
            pub(crate) fn decode(number: u8, from: &mut Reader<'_>) -> Result<Option<Self>, DecodeError> {
                Ok(Some(match number {
                    $($number => Self::$name(<$element>::decode(from)?.into()),)*
                    _ => return Ok(None),
                }))
            }
        }

        impl Array {
            /// The number of the type of its elements.
            #[must_use]
            pub const fn type_number(&self) -> u8 {
                match self { $(Self::$name(_) => $number,)* Self::Variant(_) => VARIANT }
            }

            /// How many elements it has.
            #[must_use]
            pub const fn len(&self) -> usize {
                match self { $(Self::$name(elements) => elements.len(),)* Self::Variant(elements) => elements.len() }
            }

            /// Whether it has none.
            #[must_use]
            pub const fn is_empty(&self) -> bool {
                self.len() == 0
            }

            /// The elements at some places, those left out that it has not.
            #[must_use]
            pub fn pick(&self, places: &[usize]) -> Self {
                match self {
                    $(Self::$name(elements) => {
                        Self::$name(places.iter().filter_map(|place| elements.get(*place).cloned()).collect())
                    })*
                    Self::Variant(elements) => {
                        Self::Variant(places.iter().filter_map(|place| elements.get(*place).cloned()).collect())
                    }
                }
            }

            /// Puts the elements of another at some places; false, and nothing is done, where they are of another type, not as
            /// many, or one of the places is not there.
            pub fn put(&mut self, places: &[usize], others: &Self) -> bool {
                if places.len() != others.len() || places.iter().any(|place| *place >= self.len()) {
                    return false;
                }
                fn put<T: Clone>(own: &mut [T], places: &[usize], others: &[T]) -> bool {
                    for (place, other) in places.iter().zip(others) {
                        own.get_mut(*place).into_iter().for_each(|own| own.clone_from(other));
                    }
                    true
                }
                match (self, others) {
                    $((Self::$name(own), Self::$name(others)) => put(own, places, others),)*
                    (Self::Variant(own), Self::Variant(others)) => put(own, places, others),
                    _ => false,
                }
            }

            /// The element at a place as a value of its own.
            #[must_use]
            pub fn get(&self, place: usize) -> Option<Variant> {
                match self {
                    $(Self::$name(elements) => {
                        elements.get(place).map(|element| Variant::Scalar(Scalar::$name(element.clone().into())))
                    })*
                    Self::Variant(elements) => elements.get(place).cloned(),
                }
            }

            pub(crate) fn encode(&self, out: &mut Vec<u8>) {
                match self { $(Self::$name(elements) => elements.encode(out),)* Self::Variant(elements) => elements.encode(out) }
            }

            /// Reads so many of them, which the reader was asked for.
            pub(crate) fn decode(number: u8, count: usize, from: &mut Reader<'_>) -> Result<Option<Self>, DecodeError> {
                Ok(Some(match number {
                    $($number => Self::$name(from.take_all(count)?),)*
                    VARIANT => Self::Variant(from.take_all(count)?),
                    _ => return Ok(None),
                }))
            }
        }
    };
    (@scalar $element:ty) => { $element };
    (@scalar $element:ty, $boxed:ident) => { $boxed<$element> };
}

built_in! {
    1 Boolean(bool): "True or false.";
    2 SByte(i8): "A whole number of 8 bits.";
    3 Byte(u8): "A whole number of 8 bits without a sign.";
    4 Int16(i16): "A whole number of 16 bits.";
    5 UInt16(u16): "A whole number of 16 bits without a sign.";
    6 Int32(i32): "A whole number of 32 bits; enumerations too.";
    7 UInt32(u32): "A whole number of 32 bits without a sign.";
    8 Int64(i64): "A whole number of 64 bits.";
    9 UInt64(u64): "A whole number of 64 bits without a sign.";
    10 Float(f32): "A floating-point number of 32 bits.";
    11 Double(f64): "A floating-point number of 64 bits.";
    12 String(Option<String>): "A text.";
    13 DateTime(DateTime): "A moment.";
    14 Guid(Guid): "A globally unique identifier.";
    15 ByteString(ByteString): "Bytes.";
    16 XmlElement(XmlElement): "A piece of XML.";
    17 NodeId(NodeId): "A node of the server.";
    18 ExpandedNodeId(ExpandedNodeId) in Box: "A node of any server.";
    19 StatusCode(StatusCode): "What became of something.";
    20 QualifiedName(QualifiedName): "A name in a namespace.";
    21 LocalizedText(LocalizedText) in Box: "A text for people.";
    22 ExtensionObject(ExtensionObject) in Box: "A structure.";
    23 DataValue(DataValue) in Box: "A value with its status and times.";
    25 DiagnosticInfo(DiagnosticInfo) in Box: "What a server tells of a failure.";
}

impl Binary for Variant {
    fn encode(&self, out: &mut Vec<u8>) {
        match self {
            Self::Null => out.push(0),
            Self::Scalar(value) => {
                out.push(value.type_number());
                value.encode(out);
            }
            Self::Array(elements) => {
                out.push(elements.type_number() | IS_ARRAY);
                elements.encode(out);
            }
            Self::Matrix(elements, dimensions) => {
                out.push(elements.type_number() | IS_ARRAY | HAS_DIMENSIONS);
                elements.encode(out);
                dimensions.encode(out);
            }
        }
    }

    #[inline]
    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        from.deeper(|from| {
            let at = from.at();
            let first = u8::decode(from)?;
            let unknown = || {
                let fault = Fault::Unknown { what: "type of a value", byte: first };
                DecodeError { field: None, at, fault }
            };
            let number = match first & TYPE {
                // Not given yet, and to be taken as bytes.
                number if number > LAST && number < 32 => BYTE_STRING,
                number => number,
            };
            if number == 0 {
                return if first == 0 { Ok(Self::Null) } else { Err(unknown()) };
            }
            if first & IS_ARRAY == 0 {
                let scalar = if first & HAS_DIMENSIONS == 0 { Scalar::decode(number, from)? } else { None };
                return scalar.map(Self::Scalar).ok_or_else(unknown);
            }
            let count = from.take_count()?.unwrap_or_default();
            let elements = Array::decode(number, count, from)?.ok_or_else(unknown)?;
            if first & HAS_DIMENSIONS == 0 {
                return Ok(Self::Array(elements));
            }
            let at = from.at();
            let dimensions: Vec<i32> = Vec::decode(from)?;
            let count = dimensions
                .iter()
                .try_fold(1_usize, |count, dimension| count.checked_mul(usize::try_from(*dimension).ok()?));
            if dimensions.is_empty() || count != Some(elements.len()) {
                return Err(DecodeError { field: None, at, fault: Fault::Dimensions });
            }
            Ok(Self::Matrix(elements, dimensions))
        })
    }
}

impl<T: Into<Scalar>> From<T> for Variant {
    fn from(value: T) -> Self {
        Self::Scalar(value.into())
    }
}

macro_rules! from {
    ($($name:ident($value:ty))*) => {$(
        impl From<$value> for Scalar {
            fn from(value: $value) -> Self {
                Self::$name(value)
            }
        }
    )*};
}

from! { Boolean(bool) SByte(i8) Byte(u8) Int16(i16) UInt16(u16) Int32(i32) UInt32(u32) Int64(i64) UInt64(u64) Float(f32) Double(f64) }
