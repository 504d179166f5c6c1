use super::{NodeKind, Space, data_type, ids};
use crate::service::CallMethodRequest;
use crate::structure::{Argument, Structure};
use crate::types::{Array, NodeId, StatusCode, Variant};

impl Space {
    /// Whether a method can be called like this: what is wrong with each argument.
    ///
    /// Source: OPC 10000-4, section 5.12.2.
    pub(crate) fn arguments(&self, wanted: &CallMethodRequest) -> Result<Vec<StatusCode>, StatusCode> {
        self.known(&wanted.object_id)?;
        let invalid = StatusCode::BAD_METHOD_INVALID;
        let NodeKind::Method { is_executable } = self.node(&wanted.method_id).ok_or(invalid)?.kind else {
            return Err(invalid);
        };
        let of = |node: &NodeId| {
            let parts = self.references(node).filter(|reference| reference.is_forward);
            let mut parts = parts.filter(|part| self.is_a(&part.kind, &ids::HAS_COMPONENT));
            parts.any(|part| part.target == wanted.method_id)
        };
        let is_of_object = of(&wanted.object_id) || self.type_definition(&wanted.object_id).is_some_and(of);
        if !is_of_object {
            return Err(invalid);
        }
        if !is_executable {
            return Err(StatusCode::BAD_NOT_EXECUTABLE);
        }
        let described = self.input_arguments(&wanted.method_id);
        let given = &wanted.input_arguments;
        if given.len() < described.len() {
            return Err(StatusCode::BAD_ARGUMENTS_MISSING);
        }
        if given.len() > described.len() {
            return Err(StatusCode::BAD_TOO_MANY_ARGUMENTS);
        }
        let check = |(argument, value): (&Argument, &Variant)| {
            let is_of_type = self.of_type(value.clone(), &argument.data_type).is_some_and(|same| same == *value);
            let fits = data_type::fits(value, argument.value_rank, &argument.array_dimensions);
            if is_of_type && fits { StatusCode::GOOD } else { StatusCode::BAD_TYPE_MISMATCH }
        };
        Ok(described.iter().zip(given).map(check).collect())
    }

    fn input_arguments(&self, method: &NodeId) -> Vec<Argument> {
        let value = self.property(method, "InputArguments").and_then(|property| property.value.value.as_ref());
        let Some(Variant::Array(Array::ExtensionObject(objects))) = value else { return Vec::new() };
        objects.iter().filter_map(|object| Argument::from_object(object)?.ok()).collect()
    }
}
