use super::History;
use crate::service::NodeClass;
use crate::types::{DataValue, ExtensionObject, LocalizedText, NodeId, QualifiedName, Variant};
use std::ops::BitOr;

/// A node with its attributes.
///
/// Source: OPC 10000-3, section 5.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// What names it.
    pub id: NodeId,
    /// Its name in paths.
    pub browse_name: QualifiedName,
    /// Its name for people.
    pub display_name: LocalizedText,
    /// What it is for.
    pub description: LocalizedText,
    /// What only nodes of its class have.
    pub kind: NodeKind,
}

/// What only nodes of one class have.
#[derive(Debug, Clone, PartialEq)]
pub enum NodeKind {
    /// Something that has variables and methods.
    Object,
    /// Something that has a value.
    Variable(Box<Variable>),
    /// Something that can be called.
    Method {
        /// Whether it may be.
        is_executable: bool,
    },
    /// The type of an object.
    ObjectType {
        /// Whether nothing is of it alone.
        is_abstract: bool,
    },
    /// The type of a variable.
    VariableType {
        /// Whether nothing is of it alone.
        is_abstract: bool,
        /// The type of the value.
        data_type: NodeId,
        /// -1 for one value, 1 for several in a row, and so on.
        value_rank: i32,
    },
    /// The type of a reference.
    ReferenceType {
        /// Whether nothing is of it alone.
        is_abstract: bool,
        /// Whether it means the same both ways.
        is_symmetric: bool,
        /// What it means the other way.
        inverse_name: LocalizedText,
    },
    /// The type of a value.
    DataType {
        /// Whether nothing is of it alone.
        is_abstract: bool,
        /// How it is made up: a `StructureDefinition` or an `EnumDefinition`.
        definition: Option<ExtensionObject>,
    },
}

/// A value, and how it may be used.
#[derive(Debug, Clone, PartialEq)]
pub struct Variable {
    /// The value.
    pub value: DataValue,
    /// Its type.
    pub data_type: NodeId,
    /// -1 for one value, 1 for several in a row, and so on; 0 for any but one, -2 for any.
    pub value_rank: i32,
    /// The lengths of its dimensions; 0 for any.
    pub array_dimensions: Vec<u32>,
    /// What may be done with it.
    pub access: Access,
    /// So many milliseconds pass at least between two values; 0 for none.
    pub minimum_sampling_interval: f64,
    /// The values that it had.
    pub history: Option<History>,
}

/// What may be done with a value, a bit each.
///
/// Source: OPC 10000-3, section 8.57.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Access(pub u8);

impl Access {
    /// It is read.
    pub const READ: Self = Self(1);
    /// It is written.
    pub const WRITE: Self = Self(2);
    /// Its history is read.
    pub const HISTORY: Self = Self(4);

    /// Whether all of some is allowed.
    #[must_use]
    pub const fn has(self, some: Self) -> bool {
        self.0 & some.0 == some.0
    }
}

impl BitOr for Access {
    type Output = Self;

    fn bitor(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }
}

impl Node {
    /// A node whose name for people is that in paths.
    #[must_use]
    pub fn new(id: NodeId, namespace: u16, name: &str, kind: NodeKind) -> Self {
        Self {
            id,
            browse_name: QualifiedName { namespace, name: Some(name.to_owned()) },
            display_name: LocalizedText { locale: None, text: Some(name.to_owned()) },
            description: LocalizedText::default(),
            kind,
        }
    }
}

impl NodeKind {
    /// The class.
    #[must_use]
    pub const fn class(&self) -> NodeClass {
        match self {
            Self::Object => NodeClass::Object,
            Self::Variable(_) => NodeClass::Variable,
            Self::Method { .. } => NodeClass::Method,
            Self::ObjectType { .. } => NodeClass::ObjectType,
            Self::VariableType { .. } => NodeClass::VariableType,
            Self::ReferenceType { .. } => NodeClass::ReferenceType,
            Self::DataType { .. } => NodeClass::DataType,
        }
    }
}

impl Variable {
    /// One that is read only, with a value of one of the built-in types.
    #[must_use]
    pub fn new(value: Variant) -> Self {
        let (number, rank) = match &value {
            Variant::Null => (24, -2),
            Variant::Scalar(scalar) => (scalar.type_number(), -1),
            Variant::Array(elements) => (elements.type_number(), 1),
            Variant::Matrix(elements, dimensions) => {
                (elements.type_number(), i32::try_from(dimensions.len()).unwrap_or(i32::MAX))
            }
        };
        Self {
            value: DataValue { value: Some(value), ..DataValue::default() },
            data_type: NodeId::numeric(0, number.into()),
            value_rank: rank,
            array_dimensions: Vec::new(),
            access: Access::READ,
            minimum_sampling_interval: 0.0,
            history: None,
        }
    }
}
