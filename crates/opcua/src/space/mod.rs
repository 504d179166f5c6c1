//! The address space of a server: nodes, the references between them, and the values of some.
//!
//! Source: OPC 10000-3.

mod attribute;
mod browse;
mod data_type;
mod history;
mod method;
mod node;
mod node_set;
mod path;
mod range;
mod standard;

pub use attribute::AttributeId;
pub(crate) use attribute::timed;
pub use history::History;
pub use node::{Access, Node, NodeKind, Variable};
pub use node_set::NodeSetError;

use crate::service::NodeClass;
use crate::types::{NodeId, StatusCode};
use std::collections::HashMap;

/// The nodes of a server.
#[derive(Debug, Clone, Default)]
pub struct Space {
    nodes: HashMap<NodeId, Entry>,
}

#[derive(Debug, Clone)]
struct Entry {
    node: Node,
    references: Vec<Reference>,
}

/// What leads from a node to another.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Reference {
    kind: NodeId,
    is_forward: bool,
    target: NodeId,
}

/// Numbers of the first namespace.
///
/// Source: OPC 10000-6, annex A.3.
pub mod ids {
    use crate::types::NodeId;

    macro_rules! ids {
        ($($(#[$doc:meta])* $name:ident = $number:literal;)*) => {
            $($(#[$doc])* pub const $name: NodeId = NodeId::numeric(0, $number);)*
        };
    }

    ids! {
        /// All references.
        REFERENCES = 31;
        /// Those of the hierarchy.
        HIERARCHICAL_REFERENCES = 33;
        /// From a folder to what is in it.
        ORGANIZES = 35;
        /// From a data type to its encodings.
        HAS_ENCODING = 38;
        /// From an encoding to what describes it in a dictionary of types.
        HAS_DESCRIPTION = 39;
        /// From an instance to its type.
        HAS_TYPE_DEFINITION = 40;
        /// Parts and properties.
        AGGREGATES = 44;
        /// From a type to a more special one.
        HAS_SUBTYPE = 45;
        /// From a node to a property of it.
        HAS_PROPERTY = 46;
        /// From a node to a part of it.
        HAS_COMPONENT = 47;
        /// A folder.
        FOLDER_TYPE = 61;
        /// A variable of no special kind.
        BASE_DATA_VARIABLE_TYPE = 63;
        /// A property.
        PROPERTY_TYPE = 68;
        /// Where all begins.
        ROOT_FOLDER = 84;
        /// Where the objects of a server begin.
        OBJECTS_FOLDER = 85;
        /// An analog value with its range.
        ANALOG_ITEM_TYPE = 2368;
    }
}

impl Space {
    /// Adds a node; what was there before with this identifier goes, with its references.
    pub fn add(&mut self, node: Node) {
        self.remove(&node.id);
        self.nodes.insert(node.id.clone(), Entry { node, references: Vec::new() });
    }

    /// Adds a node under another one, with its type.
    pub fn add_under(&mut self, parent: &NodeId, reference: &NodeId, node: Node, type_definition: &NodeId) {
        let id = node.id.clone();
        self.add(node);
        self.refer(parent, reference, &id);
        if !type_definition.is_null() {
            self.refer(&id, &ids::HAS_TYPE_DEFINITION, type_definition);
        }
    }

    /// Adds a reference between two nodes, seen from both, where it is not there yet. One to a node that is not there is seen from
    /// the other alone.
    pub fn refer(&mut self, from: &NodeId, kind: &NodeId, to: &NodeId) {
        let ends = [(from, true, to), (to, false, from)].map(|(node, is_forward, target)| {
            (node, Reference { kind: kind.clone(), is_forward, target: target.clone() })
        });
        // A folder may refer to thousands, and be referred to by few.
        let known = ends.iter().filter_map(|(node, reference)| Some((&self.nodes.get(node)?.references, reference)));
        let shortest = known.min_by_key(|(references, _)| references.len());
        if shortest.is_some_and(|(references, reference)| references.contains(reference)) {
            return;
        }
        for (node, reference) in ends {
            self.nodes.get_mut(node).into_iter().for_each(|entry| entry.references.push(reference.clone()));
        }
    }

    /// Takes a node out, with all references to it.
    pub fn remove(&mut self, id: &NodeId) {
        let Some(entry) = self.nodes.remove(id) else { return };
        for reference in entry.references {
            let other = self.nodes.get_mut(&reference.target);
            other.into_iter().for_each(|other| other.references.retain(|reference| reference.target != *id));
        }
    }

    /// A node.
    #[must_use]
    pub fn node(&self, id: &NodeId) -> Option<&Node> {
        self.nodes.get(id).map(|entry| &entry.node)
    }

    /// A node, to be changed.
    pub fn node_mut(&mut self, id: &NodeId) -> Option<&mut Node> {
        self.nodes.get_mut(id).map(|entry| &mut entry.node)
    }

    /// What has a value.
    #[must_use]
    pub fn variable(&self, id: &NodeId) -> Option<&Variable> {
        match &self.node(id)?.kind {
            NodeKind::Variable(variable) => Some(variable),
            _ => None,
        }
    }

    /// What has a value, to be changed.
    pub fn variable_mut(&mut self, id: &NodeId) -> Option<&mut Variable> {
        match &mut self.node_mut(id)?.kind {
            NodeKind::Variable(variable) => Some(variable),
            _ => None,
        }
    }

    /// How many nodes there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.nodes.is_empty()
    }

    /// The property of a node by its name in the first namespace.
    #[must_use]
    pub fn property(&self, id: &NodeId, name: &str) -> Option<&Variable> {
        let properties =
            self.references(id).filter(|reference| reference.is_forward && reference.kind == ids::HAS_PROPERTY);
        let mut named = properties.filter(|reference| {
            let node = self.node(&reference.target);
            node.is_some_and(|node| node.browse_name.namespace == 0 && node.browse_name.name.as_deref() == Some(name))
        });
        named.next().and_then(|reference| self.variable(&reference.target))
    }

    fn references(&self, id: &NodeId) -> impl Iterator<Item = &Reference> {
        self.nodes.get(id).into_iter().flat_map(|entry| &entry.references)
    }

    /// The type of a node.
    fn type_definition(&self, id: &NodeId) -> Option<&NodeId> {
        let mut types =
            self.references(id).filter(|reference| reference.is_forward && reference.kind == ids::HAS_TYPE_DEFINITION);
        types.next().map(|reference| &reference.target)
    }

    /// How values of a structure are told in binary.
    fn binary_encoding(&self, id: &NodeId) -> Option<NodeId> {
        let encodings =
            self.references(id).filter(|reference| reference.is_forward && reference.kind == ids::HAS_ENCODING);
        let mut binary = encodings.filter(|encoding| {
            self.node(&encoding.target).is_some_and(|node| node.browse_name.name.as_deref() == Some("Default Binary"))
        });
        binary.next().map(|encoding| encoding.target.clone())
    }

    /// The type that a type is a special one of.
    fn supertype(&self, id: &NodeId) -> Option<&NodeId> {
        let mut types =
            self.references(id).filter(|reference| !reference.is_forward && reference.kind == ids::HAS_SUBTYPE);
        types.next().map(|reference| &reference.target)
    }

    /// Whether a type is another one, or a more special one of it.
    fn is_a(&self, id: &NodeId, wanted: &NodeId) -> bool {
        // Types that go round in a circle end here, too.
        std::iter::successors(Some(id), |id| self.supertype(id)).take(MOST_SUPERTYPES).any(|id| id == wanted)
    }

    fn class(&self, id: &NodeId) -> Option<NodeClass> {
        self.node(id).map(|node| node.kind.class())
    }

    fn known(&self, id: &NodeId) -> Result<&Entry, StatusCode> {
        self.nodes.get(id).ok_or(StatusCode::BAD_NODE_ID_UNKNOWN)
    }
}

/// Types of types are followed so far.
const MOST_SUPERTYPES: usize = 32;
