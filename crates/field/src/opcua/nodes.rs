//! What is to be known of nodes before they are watched: what their structures are made of, whether they have a history, and
//! what they say of their values.

use super::dictionaries::DictionaryFinder;
use super::facts::{Most, attribute_of, is_too_much, read};
use super::semantics::SemanticsFinder;
use interlex_opcua::{
    BrowseDescription, BrowseDirection, BrowseRequest, DataTypes, EnumDefinition, NodeId, Request, RequestError,
    Response, Scalar, Structure, StructureDefinition, Variant, ids,
};
use std::collections::{BTreeSet, VecDeque};

/// Asks a server for the definitions of data types, for histories, and for units and the like, some at a time: no I/O.
#[derive(Debug, Default)]
pub(super) struct NodeFinder {
    /// Variables whose types are wanted.
    variables: VecDeque<NodeId>,
    wanted: VecDeque<NodeId>,
    /// Types that have no definition of their own: those that they add nothing to are asked for.
    bare: VecDeque<NodeId>,
    known: BTreeSet<NodeId>,
    /// Where those are described that have no definition.
    dictionaries: Box<DictionaryFinder>,
    /// Variables that may have a history.
    unsure: VecDeque<NodeId>,
    /// Those that have one.
    pub(super) historic: BTreeSet<NodeId>,
    pub(super) semantics: Box<SemanticsFinder>,
    asked: Asked,
    /// So many at a time, where the server took no more; 0 for as many as it says.
    at_most: usize,
}

#[derive(Debug, Default)]
enum Asked {
    #[default]
    Nothing,
    Types(Vec<NodeId>),
    Definitions(Vec<NodeId>),
    Supertypes(Vec<NodeId>),
    Access(Vec<NodeId>),
    Dictionaries,
    Semantics,
}

const DATA_TYPE: u32 = 14;
const DATA_TYPE_DEFINITION: u32 = 23;
const USER_ACCESS_LEVEL: u32 = 18;
/// Source: OPC 10000-3, section 8.57: HistoryRead.
const HISTORY: u8 = 4;
/// Nobody has structures of so many types.
const MOST: usize = 2000;

impl NodeFinder {
    /// Finds what is needed to read the structures of some variables, which of some have a history, and what some say of
    /// their values.
    pub(super) fn new(
        structures: impl IntoIterator<Item = NodeId>,
        variables: impl IntoIterator<Item = NodeId>,
        described: impl IntoIterator<Item = NodeId>,
    ) -> Self {
        let (variables, unsure) = (structures.into_iter().collect(), variables.into_iter().collect());
        Self { variables, unsure, semantics: SemanticsFinder::new(described).into(), ..Self::default() }
    }

    /// What to ask next; none when all is known, or an answer is waited for.
    pub(super) fn next(&mut self, most: Most) -> Option<Request> {
        if !matches!(self.asked, Asked::Nothing) {
            return None;
        }
        let at_once = if self.at_most == 0 { most.read } else { most.read.min(self.at_most) };
        let take = |from: &mut VecDeque<NodeId>| from.drain(..at_once.max(1).min(from.len())).collect::<Vec<_>>();
        let attributes = |nodes: &[NodeId], attribute| {
            read(nodes.iter().map(|node| attribute_of(node.clone(), attribute)).collect())
        };
        if !self.variables.is_empty() {
            let nodes = take(&mut self.variables);
            let request = attributes(&nodes, DATA_TYPE);
            self.asked = Asked::Types(nodes);
            return Some(request);
        }
        if !self.unsure.is_empty() {
            let nodes = take(&mut self.unsure);
            let request = attributes(&nodes, USER_ACCESS_LEVEL);
            self.asked = Asked::Access(nodes);
            return Some(request);
        }
        if !self.wanted.is_empty() {
            let nodes = take(&mut self.wanted);
            let request = attributes(&nodes, DATA_TYPE_DEFINITION);
            self.asked = Asked::Definitions(nodes);
            return Some(request);
        }
        if self.bare.is_empty() {
            if let Some(request) = self.dictionaries.next(at_once) {
                self.asked = Asked::Dictionaries;
                return Some(request);
            }
            let request = self.semantics.next(most)?;
            self.asked = Asked::Semantics;
            return Some(request);
        }
        let nodes = take(&mut self.bare);
        let above = |node: &NodeId| BrowseDescription {
            node_id: node.clone(),
            browse_direction: BrowseDirection::Inverse,
            reference_type_id: ids::HAS_SUBTYPE,
            ..BrowseDescription::default()
        };
        let request = BrowseRequest { nodes_to_browse: nodes.iter().map(above).collect(), ..BrowseRequest::default() };
        self.asked = Asked::Supertypes(nodes);
        Some(request.into())
    }

    /// Whether nothing is to be asked any more.
    pub(super) fn is_done(&self) -> bool {
        let waits = [&self.variables, &self.unsure, &self.wanted, &self.bare].iter().any(|nodes| !nodes.is_empty());
        matches!(self.asked, Asked::Nothing) && !waits && self.dictionaries.is_done() && self.semantics.is_done()
    }

    fn want(&mut self, node: NodeId) {
        if self.known.len() < MOST && self.known.insert(node.clone()) {
            self.wanted.push_back(node);
        }
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>, types: &mut DataTypes) {
        let asked = std::mem::take(&mut self.asked);
        if matches!(asked, Asked::Semantics) {
            return self.semantics.answered(answer);
        }
        if answer.as_ref().is_err_and(is_too_much) {
            return self.again(asked);
        }
        match (asked, answer) {
            (Asked::Types(_), Ok(Response::Read(told))) => {
                for result in told.results {
                    if let Some(Variant::Scalar(Scalar::NodeId(data_type))) = result.value {
                        self.want_missing(&data_type, types);
                    }
                }
            }
            (Asked::Definitions(nodes), Ok(Response::Read(told))) => {
                for (node, result) in nodes.into_iter().zip(told.results) {
                    let object = match result.value {
                        Some(Variant::Scalar(Scalar::ExtensionObject(object))) => *object,
                        _ => {
                            self.dictionaries.want(node.clone());
                            self.bare.push_back(node);
                            continue;
                        }
                    };
                    if let Some(Ok(definition)) = StructureDefinition::from_object(&object) {
                        types.add_structure(node.clone(), definition);
                    } else if let Some(Ok(definition)) = EnumDefinition::from_object(&object) {
                        types.add_enumeration(node.clone(), definition);
                    }
                    self.want_missing(&node, types);
                }
            }
            (Asked::Supertypes(nodes), Ok(Response::Browse(told))) => {
                for (node, result) in nodes.into_iter().zip(told.results) {
                    let above = result.references.iter().find_map(|reference| reference.node_id.local());
                    if let Some(above) = above {
                        types.add_subtype(node, above.clone());
                        self.want_missing(&above, types);
                    }
                }
            }
            (Asked::Access(nodes), Ok(Response::Read(told))) => {
                for (node, result) in nodes.into_iter().zip(told.results) {
                    if matches!(result.value, Some(Variant::Scalar(Scalar::Byte(access))) if access & HISTORY != 0) {
                        self.historic.insert(node);
                    }
                }
            }
            (Asked::Dictionaries, answer) => {
                let wanted = self.dictionaries.answered(answer.ok(), types);
                wanted.iter().for_each(|data_type| self.want_missing(data_type, types));
            }
            // What is not told stays unknown: values of such types are not read.
            _ => {}
        }
    }

    /// What was too much at a time is asked for in two parts.
    fn again(&mut self, asked: Asked) {
        let (queue, nodes) = match asked {
            Asked::Types(nodes) => (&mut self.variables, nodes),
            Asked::Access(nodes) => (&mut self.unsure, nodes),
            Asked::Definitions(nodes) => (&mut self.wanted, nodes),
            Asked::Supertypes(nodes) => (&mut self.bare, nodes),
            Asked::Dictionaries => {
                self.at_most = (self.dictionaries.again() / 2).max(1);
                return;
            }
            Asked::Semantics | Asked::Nothing => return,
        };
        // What one alone is too much for stays unknown.
        if nodes.len() > 1 {
            self.at_most = nodes.len() / 2;
            nodes.into_iter().rev().for_each(|node| queue.push_front(node));
        }
    }

    fn want_missing(&mut self, data_type: &NodeId, types: &DataTypes) {
        types.missing(data_type).into_iter().for_each(|missing| self.want(missing));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_opcua::{DataValue, ReadResponse, StatusCode};

    #[test]
    fn less_is_asked_for_where_all_at_once_is_too_much() {
        let (nodes, mut types) = ((1..=5).map(|number| NodeId::numeric(2, number)), DataTypes::default());
        let mut finder = NodeFinder::new([], nodes, []);
        let asked = |finder: &mut NodeFinder| match finder.next(Most::default()) {
            Some(Request::Read(request)) => request.nodes_to_read.len(),
            other => panic!("{other:?}"),
        };
        let told = |count: usize| {
            let access = DataValue { value: Some(Variant::from(HISTORY | 1)), ..DataValue::default() };
            Ok(ReadResponse { results: vec![access; count], ..ReadResponse::default() }.into())
        };
        assert_eq!(asked(&mut finder), 5);
        finder.answered(Err(RequestError::Fault(StatusCode::BAD_TOO_MANY_OPERATIONS)), &mut types);
        assert_eq!(asked(&mut finder), 2);
        finder.answered(Err(RequestError::Fault(StatusCode::BAD_RESPONSE_TOO_LARGE)), &mut types);
        for _ in 0..5 {
            assert_eq!(asked(&mut finder), 1);
            finder.answered(told(1), &mut types);
        }
        assert!(finder.is_done() && finder.historic.len() == 5, "each is known to have a history");
    }
}
