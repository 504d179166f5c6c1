//! Structures: their fields one behind the other.
//!
//! Source: OPC 10000-6, section 5.2.6.

mod custom;
mod dictionary;
mod standard;
mod units;

pub use custom::{DataTypes, FieldValue, Fields, StructureError};
pub use dictionary::{DictionaryError, NamedType};
pub use standard::{
    Argument, BuildInfo, EUInformation, EnumDefinition, EnumField, EnumValueType, Range, ServerState,
    ServerStatusDataType, StructureDefinition, StructureField, StructureType,
};

use crate::codec::{Binary, DecodeError};
use crate::types::{Body, ExtensionObject, NodeId};

/// A structure that can stand in an [`ExtensionObject`].
pub trait Structure: Binary {
    /// The number, in the first namespace, of the node of its binary encoding.
    const ENCODING: u32;

    /// As an extension object.
    fn to_object(&self) -> ExtensionObject {
        ExtensionObject { type_id: NodeId::numeric(0, Self::ENCODING), body: Body::Binary(self.to_bytes()) }
    }

    /// From an extension object; `None` when that holds something else.
    ///
    /// # Errors
    /// When its bytes are no such structure.
    fn from_object(object: &ExtensionObject) -> Option<Result<Self, DecodeError>> {
        match &object.body {
            Body::Binary(bytes) if object.type_id == NodeId::numeric(0, Self::ENCODING) => {
                Some(Self::from_bytes(bytes))
            }
            _ => None,
        }
    }
}

/// Declares structures with their fields in the standard's order, and the numbers of their binary encodings.
macro_rules! structures {
    ($(
        $(#[$doc:meta])*
        $name:ident $(= $encoding:literal)? { $($(#[$field_doc:meta])* $field:ident: $type:ty,)* }
    )*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq, Default)]
        #[cfg_attr(test, derive(serde::Serialize), serde(rename_all = "PascalCase"))]
        pub struct $name {
            $($(#[$field_doc])* pub $field: $type,)*
        }

        impl $crate::codec::Binary for $name {
            #[allow(unused_variables, reason = "a structure may have no fields")]
            fn encode(&self, out: &mut Vec<u8>) {
                $(self.$field.encode(out);)*
            }

            #[allow(unused_variables, reason = "a structure may have no fields")]
            fn decode(from: &mut $crate::codec::Reader<'_>) -> Result<Self, $crate::codec::DecodeError> {
                Ok(Self {
                    $($field: <$type>::decode(from).map_err(|error| error.within(stringify!($field)))?,)*
                })
            }
        }

        $(impl $crate::structure::Structure for $name {
            const ENCODING: u32 = $encoding;
        })?
    )*};
}

/// Declares enumerations, which go over the wire as numbers of 32 bits.
///
/// Source: OPC 10000-6, section 5.2.4.
macro_rules! enumerations {
    ($(
        $(#[$doc:meta])*
        $name:ident { $($(#[$item_doc:meta])* $item:ident = $value:literal,)* }
    )*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
        #[repr(i32)]
        pub enum $name {
            $($(#[$item_doc])* $item = $value,)*
        }

        impl $crate::codec::Binary for $name {
            fn encode(&self, out: &mut Vec<u8>) {
                (*self as i32).encode(out);
            }

            fn decode(from: &mut $crate::codec::Reader<'_>) -> Result<Self, $crate::codec::DecodeError> {
                let value = i32::decode(from)?;
                match value {
                    $($value => Ok(Self::$item),)*
                    _ => Err(from.fault($crate::codec::Fault::Enumeration { what: stringify!($name), value })),
                }
            }
        }

        #[cfg(test)]
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(&format_args!("{self:?} ({})", *self as i32))
            }
        }
    )*};
}

pub(crate) use {enumerations, structures};
