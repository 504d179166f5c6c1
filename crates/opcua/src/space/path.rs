use super::Space;
use crate::service::{BrowsePath, BrowsePathResult, BrowsePathTarget, NodeClass, RelativePathElement};
use crate::types::{NodeId, StatusCode};

/// A path leads to no more nodes than this.
const MOST_TARGETS: usize = 1000;

impl Space {
    /// The nodes that a path leads to.
    ///
    /// Source: OPC 10000-4, section 5.9.4.
    #[must_use]
    pub fn translate(&self, path: &BrowsePath) -> BrowsePathResult {
        match self.targets(path) {
            Ok(targets) => {
                let target = |id: NodeId| BrowsePathTarget { target_id: id.into(), remaining_path_index: u32::MAX };
                let targets = targets.into_iter().map(target).collect();
                BrowsePathResult { status_code: StatusCode::GOOD, targets }
            }
            Err(status_code) => BrowsePathResult { status_code, targets: Vec::new() },
        }
    }

    fn targets(&self, path: &BrowsePath) -> Result<Vec<NodeId>, StatusCode> {
        self.known(&path.starting_node)?;
        let elements = &path.relative_path.elements;
        if elements.is_empty() {
            return Err(StatusCode::BAD_NOTHING_TO_DO);
        }
        let mut nodes = vec![path.starting_node.clone()];
        for (at, element) in elements.iter().enumerate() {
            let has_name = element.target_name.name.as_deref().is_some_and(|name| !name.is_empty());
            // Only the last may leave its name out.
            if !has_name && at + 1 < elements.len() {
                return Err(StatusCode::BAD_BROWSE_NAME_INVALID);
            }
            let kind = &element.reference_type_id;
            if !kind.is_null() && self.class(kind) != Some(NodeClass::ReferenceType) {
                return Err(StatusCode::BAD_REFERENCE_TYPE_ID_INVALID);
            }
            let mut next: Vec<_> = nodes.iter().flat_map(|node| self.step(node, element)).collect();
            next.sort();
            next.dedup();
            if next.len() > MOST_TARGETS {
                return Err(StatusCode::BAD_TOO_MANY_MATCHES);
            }
            nodes = next;
        }
        if nodes.is_empty() { Err(StatusCode::BAD_NO_MATCH) } else { Ok(nodes) }
    }

    fn step(&self, from: &NodeId, element: &RelativePathElement) -> Vec<NodeId> {
        let name = &element.target_name;
        let is_any = name.name.as_deref().is_none_or(str::is_empty);
        let leads = self.references(from).filter(|reference| {
            reference.is_forward != element.is_inverse
                && self.is_reference(&reference.kind, &element.reference_type_id, element.include_subtypes)
        });
        let named = leads
            .filter(|reference| self.node(&reference.target).is_some_and(|node| is_any || node.browse_name == *name));
        named.map(|reference| reference.target.clone()).collect()
    }
}
