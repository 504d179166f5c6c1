use super::{Reference, Space, ids};
use crate::service::{BrowseDescription, BrowseDirection, NodeClass, ReferenceDescription};
use crate::types::{ExpandedNodeId, NodeId, StatusCode};

/// What is told of a reference, a bit each.
///
/// Source: OPC 10000-4, table 34.
const REFERENCE_TYPE: u32 = 1;
const IS_FORWARD: u32 = 2;
const NODE_CLASS: u32 = 4;
const BROWSE_NAME: u32 = 8;
const DISPLAY_NAME: u32 = 16;
const TYPE_DEFINITION: u32 = 32;

impl Space {
    /// The references of a node that are wanted.
    ///
    /// Source: OPC 10000-4, section 5.9.2.
    ///
    /// # Errors
    /// When there is no such node or type of reference.
    pub fn browse(&self, wanted: &BrowseDescription) -> Result<Vec<ReferenceDescription>, StatusCode> {
        let entry = self.known(&wanted.node_id)?;
        let kind = &wanted.reference_type_id;
        if !kind.is_null() && self.class(kind) != Some(NodeClass::ReferenceType) {
            return Err(StatusCode::BAD_REFERENCE_TYPE_ID_INVALID);
        }
        let is_wanted = |reference: &&Reference| {
            let way = match wanted.browse_direction {
                BrowseDirection::Forward => reference.is_forward,
                BrowseDirection::Inverse => !reference.is_forward,
                BrowseDirection::Both => true,
            };
            let class = self.class(&reference.target).unwrap_or_default() as u32;
            let has_class = wanted.node_class_mask == 0 || wanted.node_class_mask & class != 0;
            way && has_class && self.is_reference(&reference.kind, kind, wanted.include_subtypes)
        };
        let described = entry.references.iter().filter(is_wanted);
        Ok(described.map(|reference| self.described(reference, wanted.result_mask)).collect())
    }

    /// Whether a reference is of a type; null is any.
    pub(super) fn is_reference(&self, kind: &NodeId, wanted: &NodeId, with_subtypes: bool) -> bool {
        wanted.is_null() || kind == wanted || (with_subtypes && self.is_a(kind, wanted))
    }

    fn described(&self, reference: &Reference, mask: u32) -> ReferenceDescription {
        let has = |bit| mask & bit != 0;
        let mut described =
            ReferenceDescription { node_id: reference.target.clone().into(), ..ReferenceDescription::default() };
        if has(REFERENCE_TYPE) {
            described.reference_type_id = reference.kind.clone();
        }
        described.is_forward = has(IS_FORWARD) && reference.is_forward;
        let Some(node) = self.node(&reference.target) else { return described };
        if has(NODE_CLASS) {
            described.node_class = node.kind.class();
        }
        if has(BROWSE_NAME) {
            described.browse_name.clone_from(&node.browse_name);
        }
        if has(DISPLAY_NAME) {
            described.display_name.clone_from(&node.display_name);
        }
        if has(TYPE_DEFINITION) && matches!(node.kind.class(), NodeClass::Object | NodeClass::Variable) {
            let kind = self.type_definition(&node.id).cloned().unwrap_or(NodeId::NULL);
            described.type_definition = ExpandedNodeId::from(kind);
        }
        described
    }

    /// The nodes below a node in the hierarchy, each once, the node itself first.
    #[must_use]
    pub fn below(&self, id: &NodeId) -> Vec<NodeId> {
        let (mut found, mut seen) = (vec![id.clone()], std::collections::HashSet::from([id.clone()]));
        let mut at = 0;
        while let Some(id) = found.get(at).cloned() {
            let down = self.references(&id).filter(|reference| {
                reference.is_forward && self.is_reference(&reference.kind, &ids::HIERARCHICAL_REFERENCES, true)
            });
            found.extend(down.filter(|down| seen.insert(down.target.clone())).map(|down| down.target.clone()));
            at += 1;
        }
        found
    }
}
