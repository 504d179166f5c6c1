//! Structures that a server describes itself.
//!
//! Source: OPC 10000-3, sections 8.48 to 8.52; OPC 10000-6, sections 5.2.4 to 5.2.8.

use super::{EnumDefinition, StructureDefinition, StructureField, StructureType};
use crate::codec::{Binary, DecodeError, Fault, Limits, Reader};
use crate::types::{Array, Body, ExtensionObject, Identifier, NodeId, Scalar, Variant};
use std::collections::HashMap;

/// The data types of a server, as far as somebody has asked for them.
#[derive(Debug, Clone, Default)]
pub struct DataTypes {
    structures: HashMap<NodeId, StructureDefinition>,
    enumerations: HashMap<NodeId, EnumDefinition>,
    /// The type that a type adds to.
    supertypes: HashMap<NodeId, NodeId>,
    /// The type that an encoding is of.
    encodings: HashMap<NodeId, NodeId>,
}

/// Why a structure cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StructureError {
    /// Its type, or one in it, was not asked for.
    #[error("the data type {0} is not known")]
    Unknown(NodeId),
    /// It is not in OPC UA Binary.
    #[error("it is not in the binary encoding")]
    NotBinary,
    /// Its bytes are no such structure.
    #[error(transparent)]
    Malformed(#[from] DecodeError),
    /// It has no such field with one value, or one of another type.
    #[error("it has no field {0} with one value of that type")]
    NoField(String),
    /// A field in it is read, and cannot be written.
    #[error("its field {0} is a structure of a type of its own, and cannot be written")]
    Unwritable(String),
}

/// The fields of a structure by their names, in their order.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Fields(pub Vec<(String, FieldValue)>);

/// What a field holds.
#[derive(Debug, Clone, PartialEq)]
pub enum FieldValue {
    /// A value of a built-in type, or several.
    Value(Variant),
    /// A structure.
    Structure(Fields),
    /// Several structures.
    Structures(Vec<Fields>),
    /// Nothing: it is optional, or another field of the union is there.
    Absent,
}

/// Types that stand for any of those below them: such a value tells its own type.
const ANY: [u32; 4] = [24, 26, 27, 28];
/// Structures of any type.
const STRUCTURE: u32 = 22;
/// Enumerations of any type.
const ENUMERATION: u32 = 29;
const INT32: u8 = 6;
/// Types of types are followed so far.
const MOST_SUPERTYPES: usize = 32;

/// How a value of a type is written.
enum Form<'a> {
    BuiltIn(u8),
    /// As one of any type.
    Variant,
    /// As a structure that tells its type.
    Object,
    Fields(&'a StructureDefinition),
}

impl DataTypes {
    /// A structure, as its DataTypeDefinition tells.
    pub fn add_structure(&mut self, data_type: NodeId, definition: StructureDefinition) {
        self.encodings.insert(definition.default_encoding_id.clone(), data_type.clone());
        self.structures.insert(data_type, definition);
    }

    /// An enumeration, as its DataTypeDefinition tells.
    pub fn add_enumeration(&mut self, data_type: NodeId, definition: EnumDefinition) {
        self.enumerations.insert(data_type, definition);
    }

    /// A type that adds nothing to another one: a duration is a number.
    pub fn add_subtype(&mut self, data_type: NodeId, supertype: NodeId) {
        self.supertypes.insert(data_type, supertype);
    }

    /// An encoding of a type, beside the one that its definition names.
    pub fn add_encoding(&mut self, encoding: NodeId, data_type: NodeId) {
        self.encodings.insert(encoding, data_type);
    }

    /// What an enumeration has.
    #[must_use]
    pub fn enumeration(&self, data_type: &NodeId) -> Option<&EnumDefinition> {
        self.enumerations.get(data_type)
    }

    /// The types that must be asked for before a structure of this type can be read.
    #[must_use]
    pub fn missing(&self, data_type: &NodeId) -> Vec<NodeId> {
        let (mut missing, mut seen, mut open) = (Vec::new(), Vec::new(), vec![data_type]);
        while let Some(next) = open.pop() {
            if seen.contains(&next) {
                continue;
            }
            seen.push(next);
            match self.form(next) {
                Ok(Form::Fields(definition)) => open.extend(definition.fields.iter().map(|field| &field.data_type)),
                Ok(_) => {}
                Err(StructureError::Unknown(unknown)) if !missing.contains(&unknown) => missing.push(unknown),
                Err(_) => {}
            }
        }
        missing
    }

    fn form(&self, data_type: &NodeId) -> Result<Form<'_>, StructureError> {
        let mut current = data_type;
        for _ in 0..MOST_SUPERTYPES {
            if let NodeId { namespace: 0, identifier: Identifier::Numeric(number) } = current {
                match *number {
                    STRUCTURE => return Ok(Form::Object),
                    ENUMERATION => return Ok(Form::BuiltIn(INT32)),
                    any if ANY.contains(&any) => return Ok(Form::Variant),
                    built_in @ 1..=25 => return Ok(Form::BuiltIn(u8::try_from(built_in).unwrap_or_default())),
                    _ => {}
                }
            }
            if let Some(definition) = self.structures.get(current) {
                return Ok(Form::Fields(definition));
            }
            if self.enumerations.contains_key(current) {
                return Ok(Form::BuiltIn(INT32));
            }
            current = self.supertypes.get(current).ok_or_else(|| StructureError::Unknown(current.clone()))?;
        }
        Err(StructureError::Unknown(data_type.clone()))
    }

    /// Reads a structure.
    ///
    /// # Errors
    /// When its type is not known, or its bytes are no such structure.
    pub fn read(&self, object: &ExtensionObject, limits: Limits) -> Result<Fields, StructureError> {
        self.read_within(object, &mut Reader::new(&[], limits))
    }

    fn read_within(&self, object: &ExtensionObject, outer: &mut Reader<'_>) -> Result<Fields, StructureError> {
        let Body::Binary(bytes) = &object.body else { return Err(StructureError::NotBinary) };
        let unknown = || StructureError::Unknown(object.type_id.clone());
        let data_type = self.encodings.get(&object.type_id).ok_or_else(unknown)?;
        let definition = self.structures.get(data_type).ok_or_else(unknown)?;
        outer.within(bytes, |from| {
            let fields = self.fields(definition, from)?;
            from.finish()?;
            Ok(fields)
        })
    }

    fn fields(&self, definition: &StructureDefinition, from: &mut Reader<'_>) -> Result<Fields, StructureError> {
        from.spend(definition.fields.len().saturating_mul(size_of::<(String, FieldValue)>()))?;
        let mut fields = Vec::with_capacity(definition.fields.len());
        let named = |field: &StructureField| field.name.clone().unwrap_or_default();
        match definition.structure_type {
            StructureType::Structure => {
                for field in &definition.fields {
                    fields.push((named(field), self.field(field, false, from)?));
                }
            }
            StructureType::StructureWithSubtypedValues => {
                for field in &definition.fields {
                    fields.push((named(field), self.field(field, field.is_optional, from)?));
                }
            }
            StructureType::StructureWithOptionalFields => {
                let (mask, mut bit) = (u32::decode(from)?, 0);
                for field in &definition.fields {
                    let is_there = !field.is_optional || mask.checked_shr(bit).is_some_and(|rest| rest & 1 == 1);
                    bit += u32::from(field.is_optional);
                    let value = if is_there { self.field(field, false, from)? } else { FieldValue::Absent };
                    fields.push((named(field), value));
                }
            }
            StructureType::Union | StructureType::UnionWithSubtypedValues => {
                let at = from.fault(Fault::Unknown { what: "field of the union", byte: u8::MAX });
                let chosen = usize::try_from(u32::decode(from)?).unwrap_or(usize::MAX);
                if chosen > definition.fields.len() {
                    return Err(at.into());
                }
                let may_differ = definition.structure_type == StructureType::UnionWithSubtypedValues;
                for (place, field) in (1..).zip(&definition.fields) {
                    let is_there = place == chosen;
                    let differs = may_differ && field.is_optional;
                    let value = if is_there { self.field(field, differs, from)? } else { FieldValue::Absent };
                    fields.push((named(field), value));
                }
            }
        }
        Ok(Fields(fields))
    }

    fn field(&self, field: &StructureField, is_any: bool, from: &mut Reader<'_>) -> Result<FieldValue, StructureError> {
        let form = match self.form(&field.data_type)? {
            // What may be of a type that adds to the one that is described tells its own.
            Form::Fields(_) if is_any => Form::Object,
            Form::BuiltIn(_) if is_any => Form::Variant,
            form => form,
        };
        if field.value_rank > 1 {
            return self.matrix(&form, from);
        }
        // One value is what -1 means; of those that may be one or several, only several can be written here.
        if field.value_rank != -1 {
            let count = from.take_count()?.unwrap_or_default();
            return self.array(&form, count, from);
        }
        let before = from.fault(Fault::Unknown { what: "type of a value", byte: 0 });
        Ok(match form {
            Form::BuiltIn(number) => {
                let scalar = Scalar::decode(number, from)?.map(Variant::Scalar);
                FieldValue::Value(scalar.ok_or(before)?)
            }
            Form::Variant => FieldValue::Value(Variant::decode(from)?),
            Form::Object => {
                let object = ExtensionObject::decode(from)?;
                self.object(object, from)
            }
            Form::Fields(definition) => {
                let depth = from.deepen()?;
                let fields = self.fields(definition, from)?;
                from.rise(depth);
                FieldValue::Structure(fields)
            }
        })
    }

    /// A structure that tells its type is read, too, where that is known.
    fn object(&self, object: ExtensionObject, from: &mut Reader<'_>) -> FieldValue {
        match self.read_within(&object, from) {
            Ok(fields) => FieldValue::Structure(fields),
            Err(_) => FieldValue::Value(Variant::Scalar(Scalar::ExtensionObject(object.into()))),
        }
    }

    fn array(&self, form: &Form<'_>, count: usize, from: &mut Reader<'_>) -> Result<FieldValue, StructureError> {
        let before = from.fault(Fault::Unknown { what: "type of a value", byte: 0 });
        Ok(match form {
            Form::BuiltIn(number) => {
                FieldValue::Value(Variant::Array(Array::decode(*number, count, from)?.ok_or(before)?))
            }
            Form::Variant => FieldValue::Value(Variant::Array(Array::Variant(from.take_all(count)?))),
            Form::Object => FieldValue::Value(Variant::Array(Array::ExtensionObject(from.take_all(count)?))),
            Form::Fields(definition) => {
                from.spend(count.saturating_mul(size_of::<Fields>()))?;
                let (mut all, depth) = (Vec::with_capacity(count), from.deepen()?);
                for _ in 0..count {
                    all.push(self.fields(definition, from)?);
                }
                from.rise(depth);
                FieldValue::Structures(all)
            }
        })
    }

    /// The dimensions stand before the elements, which have no length of their own.
    ///
    /// Source: OPC 10000-6, section 5.2.5.
    fn matrix(&self, form: &Form<'_>, from: &mut Reader<'_>) -> Result<FieldValue, StructureError> {
        let at = from.fault(Fault::Dimensions);
        let dimensions: Vec<i32> = Vec::decode(from)?;
        let count = dimensions
            .iter()
            .try_fold(1_usize, |count, dimension| count.checked_mul(usize::try_from(*dimension).ok()?));
        // Each takes a byte at the least.
        let count = count.filter(|count| *count <= from.rest().len() && !dimensions.is_empty()).ok_or(at)?;
        let value = self.array(form, count, from)?;
        Ok(match value {
            FieldValue::Value(Variant::Array(elements)) => FieldValue::Value(Variant::Matrix(elements, dimensions)),
            other => other,
        })
    }
}

impl Fields {
    /// The field at a path: names with points between them, and numbers in brackets for elements.
    #[must_use]
    pub fn get(&self, path: &str) -> Option<FieldValue> {
        let (name, place, rest) = step(path)?;
        let (_, value) = self.0.iter().find(|(known, _)| known == name)?;
        let value = match (value, place) {
            (value, None) => value.clone(),
            (FieldValue::Structures(all), Some(place)) => FieldValue::Structure(all.get(place)?.clone()),
            (FieldValue::Value(Variant::Array(elements)), Some(place)) => FieldValue::Value(elements.get(place)?),
            _ => return None,
        };
        match (rest, value) {
            (None, value) => Some(value),
            (Some(rest), FieldValue::Structure(fields)) => fields.get(rest),
            (Some(_), _) => None,
        }
    }
}

/// The first step of a path: a name, the place of an element, and what follows.
fn step(path: &str) -> Option<(&str, Option<usize>, Option<&str>)> {
    let (first, rest) = path.split_once('.').map_or((path, None), |(first, rest)| (first, Some(rest)));
    Some(match first.split_once('[') {
        Some((name, place)) => (name, Some(place.strip_suffix(']')?.parse().ok()?), rest),
        None => (first, None, rest),
    })
}

#[cfg(test)]
mod tests;
mod write;
