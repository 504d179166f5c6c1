//! Whether a value is of a data type.
//!
//! Source: OPC 10000-3, section 5.8; OPC 10000-5, section 12.2.

use super::{MOST_SUPERTYPES, Space};
use crate::types::{Array, ByteString, Identifier, NodeId, Scalar, Variant};

const BYTE: u8 = 3;
const INT32: u8 = 6;
const BYTE_STRING: u8 = 15;
const STRUCTURE: u8 = 22;
const LAST_BUILT_IN: u32 = 25;
const ANY: u32 = 24;
const NUMBER: u32 = 26;
const INTEGER: u32 = 27;
const UNSIGNED: u32 = 28;
const ENUMERATION: u32 = 29;

impl Space {
    /// A value as one of a data type; bytes in a row are a string of bytes, too.
    pub(super) fn of_type(&self, value: Variant, data_type: &NodeId) -> Option<Variant> {
        let numbers = self.built_in(data_type)?;
        let number = match &value {
            // Nothing is of every type.
            Variant::Null => return Some(value),
            Variant::Scalar(scalar) => scalar.type_number(),
            Variant::Array(elements) | Variant::Matrix(elements, _) => elements.type_number(),
        };
        match value {
            value if numbers.contains(&number) => Some(value),
            Variant::Array(Array::Byte(bytes)) if numbers == [BYTE_STRING] => {
                Some(Variant::Scalar(Scalar::ByteString(bytes.into())))
            }
            Variant::Scalar(Scalar::ByteString(ByteString(bytes))) if numbers == [BYTE] => {
                Some(Variant::Array(Array::Byte(bytes.unwrap_or_default())))
            }
            _ => None,
        }
    }

    /// The numbers of the built-in types that values of a data type have.
    fn built_in(&self, data_type: &NodeId) -> Option<Vec<u8>> {
        let known = |id: &NodeId| match id {
            NodeId { namespace: 0, identifier: Identifier::Numeric(number) } => match *number {
                ANY => Some((1..=25).collect()),
                NUMBER => Some((2..=11).collect()),
                INTEGER => Some(vec![2, 4, 6, 8]),
                UNSIGNED => Some(vec![3, 5, 7, 9]),
                ENUMERATION => Some(vec![INT32]),
                22 => Some(vec![STRUCTURE]),
                number @ 1..=LAST_BUILT_IN => u8::try_from(number).ok().map(|number| vec![number]),
                _ => None,
            },
            _ => None,
        };
        let types = std::iter::successors(Some(data_type), |id| self.supertype(id)).take(MOST_SUPERTYPES);
        types.into_iter().find_map(known)
    }
}

/// Whether a value has as many dimensions as it may have, and none is too long.
pub(super) fn fits(value: &Variant, value_rank: i32, array_dimensions: &[u32]) -> bool {
    let lengths = match value {
        Variant::Null => return true,
        Variant::Scalar(_) => Vec::new(),
        Variant::Array(elements) => vec![i32::try_from(elements.len()).unwrap_or(i32::MAX)],
        Variant::Matrix(_, dimensions) => dimensions.clone(),
    };
    let count = i32::try_from(lengths.len()).unwrap_or(i32::MAX);
    let has_rank = match value_rank {
        -3 => count <= 1,
        -2 => true,
        -1 => count == 0,
        0 => count >= 1,
        rank => count == rank,
    };
    let is_short = |(length, most): (&i32, &u32)| *most == 0 || i64::from(*length) <= i64::from(*most);
    has_rank && lengths.iter().zip(array_dimensions).all(is_short)
}
