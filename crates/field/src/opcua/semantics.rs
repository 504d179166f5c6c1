//! What the nodes of points say of them beside their values, for points that leave it to them.

use super::describing::{Describing, FoundNode};
use super::facts::{Most, is_too_much};
use interlex_core::Semantics;
use interlex_opcua::{
    BrowseDescription, BrowseDirection, BrowseNextRequest, BrowseRequest, BrowseResult, ByteString, NodeClass, NodeId,
    Request, RequestError, Response, ids,
};
use std::collections::{BTreeMap, VecDeque};

/// Asks a server for the properties of variables, and for what those say: no I/O.
#[derive(Debug, Default)]
pub(super) struct SemanticsFinder {
    waiting: VecDeque<FoundNode>,
    /// Variables whose properties were not all told.
    unfinished: Vec<(FoundNode, ByteString)>,
    found: Vec<FoundNode>,
    describing: Option<Describing>,
    asked: Asked,
    told: BTreeMap<NodeId, Semantics>,
    /// So many at a time, where the server took no more; 0 for as many as it says.
    at_most: usize,
}

#[derive(Debug, Default)]
enum Asked {
    #[default]
    Nothing,
    Properties(Vec<FoundNode>),
    More(Vec<FoundNode>),
    Description,
}

const ALL_FIELDS: u32 = 63;
/// So many are described at a time.
const AT_ONCE: usize = 100;

impl SemanticsFinder {
    pub(super) fn new(nodes: impl IntoIterator<Item = NodeId>) -> Self {
        let found = |node| FoundNode {
            node,
            path: Vec::new(),
            way: String::new(),
            class: NodeClass::Variable,
            level: 0,
            title: String::new(),
            properties: Vec::new(),
        };
        Self { waiting: nodes.into_iter().map(found).collect(), ..Self::default() }
    }

    /// What to ask next; none when all is known, or an answer is waited for.
    pub(super) fn next(&mut self, most: Most) -> Option<Request> {
        if !matches!(self.asked, Asked::Nothing) {
            return None;
        }
        if let Some(describing) = &mut self.describing {
            if let Some(request) = describing.next(most.read) {
                self.asked = Asked::Description;
                return Some(request);
            }
            self.told.extend(self.describing.take().into_iter().flat_map(Describing::semantics));
        }
        if !self.unfinished.is_empty() {
            let (nodes, continuation_points) = std::mem::take(&mut self.unfinished).into_iter().unzip();
            self.asked = Asked::More(nodes);
            return Some(BrowseNextRequest { continuation_points, ..BrowseNextRequest::default() }.into());
        }
        let at_once = if self.at_most == 0 { most.browse } else { most.browse.min(self.at_most) }.max(1);
        if self.found.len() >= AT_ONCE || (self.waiting.is_empty() && !self.found.is_empty()) {
            self.describing = Some(Describing::new(std::mem::take(&mut self.found)));
            return self.next(most);
        }
        if self.waiting.is_empty() {
            return None;
        }
        let nodes: Vec<_> = self.waiting.drain(..at_once.min(self.waiting.len())).collect();
        let properties = |found: &FoundNode| BrowseDescription {
            node_id: found.node.clone(),
            browse_direction: BrowseDirection::Forward,
            reference_type_id: ids::HAS_PROPERTY,
            include_subtypes: true,
            result_mask: ALL_FIELDS,
            ..BrowseDescription::default()
        };
        let nodes_to_browse = nodes.iter().map(properties).collect();
        self.asked = Asked::Properties(nodes);
        Some(BrowseRequest { nodes_to_browse, ..BrowseRequest::default() }.into())
    }

    /// Whether nothing is to be asked any more.
    pub(super) fn is_done(&self) -> bool {
        matches!(self.asked, Asked::Nothing)
            && self.describing.is_none()
            && self.waiting.is_empty()
            && self.unfinished.is_empty()
            && self.found.is_empty()
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>) {
        match (std::mem::take(&mut self.asked), answer) {
            (Asked::Description, answer) => {
                self.describing.iter_mut().for_each(|describing| describing.answered(answer.clone()));
            }
            (Asked::Properties(nodes), Ok(Response::Browse(told))) => self.properties(nodes, told.results),
            (Asked::More(nodes), Ok(Response::BrowseNext(told))) => self.properties(nodes, told.results),
            (Asked::Properties(nodes), Err(error)) if is_too_much(&error) && nodes.len() > 1 => {
                self.at_most = nodes.len() / 2;
                nodes.into_iter().rev().for_each(|node| self.waiting.push_front(node));
            }
            // What is not told is left out.
            (Asked::Properties(nodes) | Asked::More(nodes), _) => self.found.extend(nodes),
            (Asked::Nothing, _) => {}
        }
    }

    fn properties(&mut self, nodes: Vec<FoundNode>, results: Vec<BrowseResult>) {
        let mut results = results.into_iter();
        for mut found in nodes {
            let Some(result) = results.next() else {
                self.found.push(found);
                continue;
            };
            for reference in result.references {
                if let (Some(name), Some(node)) = (reference.browse_name.name, reference.node_id.local()) {
                    found.properties.push((name, node));
                }
            }
            if result.continuation_point.as_bytes().is_empty() {
                self.found.push(found);
            } else {
                self.unfinished.push((found, result.continuation_point));
            }
        }
    }

    /// What a node says of its values, once all is known.
    pub(super) fn told(&self, node: &NodeId) -> Option<&Semantics> {
        self.told.get(node)
    }
}
