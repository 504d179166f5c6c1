//! The nodes of the first namespace, which every server has.
//!
//! Source: OPC 10000-5.

use super::{Access, Node, NodeKind, Space, Variable};
use crate::structure::{
    Argument, EnumDefinition, EnumField, EnumValueType, Structure, StructureDefinition, StructureField, StructureType,
};
use crate::types::{Array, ExtensionObject, Identifier, LocalizedText, NodeId, Scalar, Variant};

const TABLE: &str = include_str!("namespace0.tsv");

impl Space {
    /// The first namespace as a whole.
    #[must_use]
    pub fn standard() -> Self {
        let rows = TABLE.lines().filter(|line| !line.starts_with('#')).filter_map(row);
        let (mut space, mut references) = (Self::default(), Vec::new());
        for (node, targets) in rows {
            references.push((node.id.clone(), targets));
            space.add(node);
        }
        for (from, targets) in &references {
            let targets = targets.split(' ').filter_map(|reference| reference.split_once('>'));
            for (kind, to) in targets.filter_map(|(kind, to)| Some((number(kind)?, number(to)?))) {
                space.refer(from, &kind, &to);
            }
        }
        let ids: Vec<_> = references.into_iter().map(|(id, _)| id).collect();
        space.complete_structures(&ids);
        space
    }

    /// Gives a variable of the first namespace a value.
    pub fn set_standard(&mut self, id: u32, value: impl Into<Variant>) {
        if let Some(variable) = self.variable_mut(&NodeId::numeric(0, id)) {
            variable.value.value = Some(value.into());
        }
    }
}

/// A node of the table, and its references.
fn row(line: &str) -> Option<(Node, &str)> {
    let mut columns = line.split('\t');
    let mut next = || columns.next().unwrap_or_default();
    let (id, class, name, inverse_name, data_type, rank) = (next(), next(), next(), next(), next(), next());
    let (made_of, references) = (next(), next());
    let (class, flags) = class.split_at_checked(1)?;
    let (is_abstract, is_symmetric) = (flags.contains('a'), flags.contains('s'));
    let rank = if rank.is_empty() { -1 } else { rank.parse().ok()? };
    let kind = match class {
        "O" => NodeKind::Object,
        "M" => NodeKind::Method { is_executable: true },
        "o" => NodeKind::ObjectType { is_abstract },
        "v" => NodeKind::VariableType { is_abstract, data_type: number(data_type)?, value_rank: rank },
        "r" => NodeKind::ReferenceType { is_abstract, is_symmetric, inverse_name: text(inverse_name) },
        "d" => NodeKind::DataType { is_abstract, definition: definition(made_of) },
        _ => NodeKind::Variable(Box::new(Variable {
            data_type: number(data_type)?,
            value_rank: rank,
            access: Access::READ,
            ..Variable::new(value(made_of)?)
        })),
    };
    Some((Node::new(number(id)?, 0, name, kind), references))
}

fn number(text: &str) -> Option<NodeId> {
    Some(NodeId { namespace: 0, identifier: Identifier::Numeric(text.parse().ok()?) })
}

fn text(text: &str) -> LocalizedText {
    LocalizedText { locale: None, text: (!text.is_empty()).then(|| text.to_owned()) }
}

/// What a data type is made up of by itself.
fn definition(made_of: &str) -> Option<ExtensionObject> {
    let (kind, fields) = made_of.split_once(' ')?;
    let structure_type = match kind {
        "E" | "B" => return Some(EnumDefinition { fields: values(fields).map(field_of).collect() }.to_object()),
        "S" => StructureType::Structure,
        "P" => StructureType::StructureWithOptionalFields,
        "U" => StructureType::Union,
        _ => StructureType::StructureWithSubtypedValues,
    };
    let fields = fields.split('|').filter_map(structure_field).collect();
    Some(StructureDefinition { structure_type, fields, ..StructureDefinition::default() }.to_object())
}

/// What a variable holds from the beginning.
fn value(made_of: &str) -> Option<Variant> {
    let Some((kind, rest)) = made_of.split_once(' ') else { return Some(Variant::Null) };
    Some(match kind {
        "L" => Variant::Array(Array::LocalizedText(rest.split('|').map(text).collect())),
        "A" => {
            let arguments = rest.split('|').filter_map(structure_field).map(|field| {
                let StructureField { name, data_type, value_rank, .. } = field;
                Argument { name, data_type, value_rank, ..Argument::default() }.to_object()
            });
            Variant::Array(Array::ExtensionObject(arguments.collect()))
        }
        "N" => {
            let items = values(rest).map(|(name, value)| {
                EnumValueType { value, display_name: text(name), ..EnumValueType::default() }.to_object()
            });
            Variant::Array(Array::ExtensionObject(items.collect()))
        }
        "=String" => Variant::Scalar(Scalar::String(Some(rest.to_owned()))),
        "=Boolean" => Variant::from(rest == "true"),
        "=UInt32" => Variant::from(rest.parse::<u32>().ok()?),
        "=Int32" => Variant::from(rest.parse::<i32>().ok()?),
        _ => return None,
    })
}

/// Names with their numbers: `Running=0|Failed=1`.
fn values(text: &str) -> impl Iterator<Item = (&str, i64)> {
    text.split('|')
        .filter_map(|value| value.rsplit_once('='))
        .filter_map(|(name, value)| Some((name, value.parse().ok()?)))
}

fn field_of((name, value): (&str, i64)) -> EnumField {
    EnumField { value, display_name: text(name), name: Some(name.to_owned()), ..EnumField::default() }
}

/// A field with its type, and its rank where it is more than one value: `Fields:14533:1?`.
fn structure_field(text: &str) -> Option<StructureField> {
    let (text, is_optional) = text.strip_suffix('?').map_or((text, false), |text| (text, true));
    let mut parts = text.split(':');
    let (name, data_type) = (parts.next()?, number(parts.next()?)?);
    let value_rank = parts.next().map_or(Some(-1), |rank| rank.parse().ok())?;
    Some(StructureField {
        name: Some(name.to_owned()),
        data_type,
        value_rank,
        is_optional,
        ..StructureField::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::service::NodeClass;
    use crate::space::{Reference, ids};

    #[test]
    fn every_line_is_a_node_and_all_hang_together() {
        let space = Space::standard();
        assert_eq!(space.len(), TABLE.lines().filter(|line| !line.starts_with('#')).count());
        for entry in space.nodes.values() {
            for reference in &entry.references {
                let back =
                    Reference { is_forward: !reference.is_forward, target: entry.node.id.clone(), ..reference.clone() };
                assert!(space.nodes[&reference.target].references.contains(&back), "{reference:?}");
                assert_eq!(space.class(&reference.kind), Some(NodeClass::ReferenceType), "{reference:?}");
            }
            if matches!(entry.node.kind.class(), NodeClass::Object | NodeClass::Variable) {
                assert!(space.type_definition(&entry.node.id).is_some(), "{:?}", entry.node.id);
            }
            if let NodeKind::Variable(variable) = &entry.node.kind {
                let value = variable.value.value.clone().unwrap();
                assert!(space.of_type(value, &variable.data_type).is_some(), "{:?}", entry.node);
            }
        }
        assert!(space.is_a(&ids::HAS_PROPERTY, &ids::HIERARCHICAL_REFERENCES));
        assert!(!space.is_a(&ids::HAS_TYPE_DEFINITION, &ids::HIERARCHICAL_REFERENCES));
        // All but encodings, and what is referred to otherwise than by the hierarchy.
        assert_eq!(space.below(&ids::ROOT_FOLDER).len(), 4814);
    }

    #[test]
    fn types_of_structures_have_the_fields_of_those_that_they_add_to() {
        let space = Space::standard();
        let definition = |number| match &space.node(&NodeId::numeric(0, number)).unwrap().kind {
            NodeKind::DataType { definition, .. } => definition.clone().unwrap(),
            other => panic!("{other:?}"),
        };
        let range = StructureDefinition::from_object(&definition(884)).unwrap().unwrap();
        assert_eq!(range.default_encoding_id, NodeId::numeric(0, 886));
        assert_eq!(
            range.fields.iter().map(|field| field.name.as_deref().unwrap()).collect::<Vec<_>>(),
            ["Low", "High"]
        );
        let state = EnumDefinition::from_object(&definition(852)).unwrap().unwrap();
        assert_eq!((state.fields.len(), state.fields[4].name.as_deref()), (8, Some("Shutdown")));
    }
}
