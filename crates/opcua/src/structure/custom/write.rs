//! Structures are written as they are read.

use super::{DataTypes, FieldValue, Fields, Form, StructureError, step};
use crate::codec::{Binary, Limits};
use crate::structure::{StructureDefinition, StructureField, StructureType};
use crate::types::{Body, ExtensionObject, Scalar, Variant};

impl DataTypes {
    /// The same structure with another value in one of its fields, of the type that it has there.
    ///
    /// # Errors
    /// When its type is not known, its bytes are no such structure, or it has no such field with one value.
    pub fn with_field(
        &self,
        object: &ExtensionObject,
        path: &str,
        value: &Scalar,
        limits: Limits,
    ) -> Result<ExtensionObject, StructureError> {
        let unknown = || StructureError::Unknown(object.type_id.clone());
        let data_type = self.encodings.get(&object.type_id).ok_or_else(unknown)?;
        let definition = self.structures.get(data_type).ok_or_else(unknown)?;
        let mut fields = self.read(object, limits)?;
        match fields.place(path) {
            Some(FieldValue::Value(Variant::Scalar(known))) if known.type_number() == value.type_number() => {
                known.clone_from(value);
            }
            _ => return Err(StructureError::NoField(path.to_owned())),
        }
        let mut body = Vec::new();
        self.write(definition, &fields, &mut body)?;
        Ok(ExtensionObject { type_id: object.type_id.clone(), body: Body::Binary(body) })
    }

    fn write(
        &self,
        definition: &StructureDefinition,
        Fields(values): &Fields,
        out: &mut Vec<u8>,
    ) -> Result<(), StructureError> {
        let is_absent = |value: &FieldValue| matches!(value, FieldValue::Absent);
        let both = || definition.fields.iter().zip(values.iter().map(|(_, value)| value));
        match definition.structure_type {
            StructureType::Structure => {
                both().try_for_each(|(field, value)| self.write_field(field, value, false, out))
            }
            StructureType::StructureWithSubtypedValues => {
                both().try_for_each(|(field, value)| self.write_field(field, value, field.is_optional, out))
            }
            StructureType::StructureWithOptionalFields => {
                let optional = both().filter(|(field, _)| field.is_optional);
                let mask = (0..32)
                    .zip(optional)
                    .fold(0_u32, |mask, (bit, (_, value))| mask | u32::from(!is_absent(value)) << bit);
                mask.encode(out);
                both()
                    .filter(|(_, value)| !is_absent(value))
                    .try_for_each(|(field, value)| self.write_field(field, value, false, out))
            }
            StructureType::Union | StructureType::UnionWithSubtypedValues => {
                let may_differ = definition.structure_type == StructureType::UnionWithSubtypedValues;
                match (1_u32..).zip(both()).find(|(_, (_, value))| !is_absent(value)) {
                    None => {
                        0_u32.encode(out);
                        Ok(())
                    }
                    Some((chosen, (field, value))) => {
                        chosen.encode(out);
                        self.write_field(field, value, may_differ && field.is_optional, out)
                    }
                }
            }
        }
    }

    fn write_field(
        &self,
        field: &StructureField,
        value: &FieldValue,
        is_any: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), StructureError> {
        let form = match self.form(&field.data_type)? {
            Form::Fields(_) if is_any => Form::Object,
            Form::BuiltIn(_) if is_any => Form::Variant,
            form => form,
        };
        match (form, value) {
            (Form::Fields(definition), FieldValue::Structures(all)) if field.value_rank <= 1 => {
                i32::try_from(all.len()).unwrap_or(i32::MAX).encode(out);
                all.iter().try_for_each(|fields| self.write(definition, fields, out))?;
            }
            (Form::Fields(definition), FieldValue::Structure(fields)) => self.write(definition, fields, out)?,
            (_, FieldValue::Value(Variant::Matrix(elements, dimensions))) if field.value_rank > 1 => {
                dimensions.encode(out);
                // Their number is that of the dimensions.
                let mut counted = Vec::new();
                elements.encode(&mut counted);
                out.extend(counted.get(size_of::<i32>()..).unwrap_or_default());
            }
            (Form::Variant, FieldValue::Value(value)) if field.value_rank == -1 => value.encode(out),
            (_, FieldValue::Value(Variant::Array(elements))) if field.value_rank != -1 => elements.encode(out),
            (Form::BuiltIn(_) | Form::Object, FieldValue::Value(Variant::Scalar(scalar))) if field.value_rank == -1 => {
                scalar.encode(out);
            }
            // It has told its own type when it was read, which is not kept.
            _ => return Err(StructureError::Unwritable(field.name.clone().unwrap_or_default())),
        }
        Ok(())
    }
}

impl Fields {
    /// The field at a path, to be changed: see [`Fields::get`].
    fn place(&mut self, path: &str) -> Option<&mut FieldValue> {
        let (name, place, rest) = step(path)?;
        let (_, value) = self.0.iter_mut().find(|(known, _)| known == name)?;
        match (value, place, rest) {
            (value, None, None) => Some(value),
            (FieldValue::Structure(fields), None, Some(rest)) => fields.place(rest),
            (FieldValue::Structures(all), Some(place), Some(rest)) => all.get_mut(place)?.place(rest),
            _ => None,
        }
    }
}
