//! Dictionaries of types, where servers do not describe their data types in another way.
//!
//! Source: OPC 10000-5 release 1.03, annex D.

use super::facts::{read, value_of};
use interlex_opcua::{
    BrowseDescription, BrowseDirection, BrowseRequest, BrowseResult, DataTypes, NamedType, NodeId,
    ReferenceDescription, Request, Response, Scalar, Variant, ids,
};

/// Finds the dictionaries that describe some data types, and reads them: no I/O.
#[derive(Debug, Default)]
pub(super) struct DictionaryFinder {
    /// Data types that are wanted.
    wanted: Vec<NodeId>,
    /// With their binary encodings.
    encoded: Vec<(NodeId, NodeId)>,
    /// With those, and what names them in a dictionary.
    described: Vec<(NodeId, NodeId, NodeId)>,
    /// With those, and the dictionaries.
    kept: Vec<Kept>,
    asked: Asked,
}

/// A data type, its encoding, what names it, and the dictionary.
type Kept = (NodeId, NodeId, NodeId, NodeId);

#[derive(Debug, Default)]
enum Asked {
    #[default]
    Nothing,
    Encodings(Vec<NodeId>),
    Descriptions(Vec<(NodeId, NodeId)>),
    Dictionaries(Vec<(NodeId, NodeId, NodeId)>),
    Names(Vec<Kept>, NodeId),
}

const ALL_FIELDS: u32 = 63;
const BINARY: &str = "Default Binary";

fn around<'a>(nodes: impl Iterator<Item = &'a NodeId>, kind: &NodeId, browse_direction: BrowseDirection) -> Request {
    let one = |node: &NodeId| BrowseDescription {
        node_id: node.clone(),
        browse_direction,
        reference_type_id: kind.clone(),
        include_subtypes: true,
        result_mask: ALL_FIELDS,
        ..BrowseDescription::default()
    };
    BrowseRequest { nodes_to_browse: nodes.map(one).collect(), ..BrowseRequest::default() }.into()
}

impl DictionaryFinder {
    /// A data type that has no definition.
    pub(super) fn want(&mut self, data_type: NodeId) {
        self.wanted.push(data_type);
    }

    /// What was asked for last is asked for again, where it was more than one; tells how many it was.
    pub(super) fn again(&mut self) -> usize {
        fn back<T>(asked: Vec<T>, list: &mut Vec<T>) -> usize {
            let count = asked.len();
            list.extend(asked.into_iter().filter(|_| count > 1));
            count
        }
        match std::mem::take(&mut self.asked) {
            Asked::Nothing => 0,
            Asked::Encodings(asked) => back(asked, &mut self.wanted),
            Asked::Descriptions(asked) => back(asked, &mut self.encoded),
            Asked::Dictionaries(asked) => back(asked, &mut self.described),
            Asked::Names(asked, _) => back(asked, &mut self.kept),
        }
    }

    /// Whether nothing is to be asked any more.
    pub(super) const fn is_done(&self) -> bool {
        let is_empty =
            self.wanted.is_empty() && self.encoded.is_empty() && self.described.is_empty() && self.kept.is_empty();
        is_empty && matches!(self.asked, Asked::Nothing)
    }

    /// What to ask next; none when all is known, or an answer is waited for.
    pub(super) fn next(&mut self, at_once: usize) -> Option<Request> {
        if !matches!(self.asked, Asked::Nothing) {
            return None;
        }
        let most = |length: usize| at_once.max(1).min(length);
        if !self.wanted.is_empty() {
            let types: Vec<_> = self.wanted.drain(..most(self.wanted.len())).collect();
            let request = around(types.iter(), &ids::HAS_ENCODING, BrowseDirection::Forward);
            self.asked = Asked::Encodings(types);
            return Some(request);
        }
        if !self.encoded.is_empty() {
            let types: Vec<_> = self.encoded.drain(..most(self.encoded.len())).collect();
            let encodings = types.iter().map(|(_, encoding)| encoding);
            let request = around(encodings, &ids::HAS_DESCRIPTION, BrowseDirection::Forward);
            self.asked = Asked::Descriptions(types);
            return Some(request);
        }
        if !self.described.is_empty() {
            let types: Vec<_> = self.described.drain(..most(self.described.len())).collect();
            let descriptions = types.iter().map(|(.., description)| description);
            let request = around(descriptions, &ids::HAS_COMPONENT, BrowseDirection::Inverse);
            self.asked = Asked::Dictionaries(types);
            return Some(request);
        }
        if self.kept.is_empty() {
            return None;
        }
        // All of one dictionary at a time: their types are made of each other.
        let (.., dictionary) = self.kept.first()?.clone();
        let of_it = |kept: &mut Kept| kept.3 == dictionary;
        let types: Vec<_> = self.kept.extract_if(.., of_it).take(at_once.saturating_sub(1).max(1)).collect();
        let names = types.iter().map(|(_, _, description, _)| value_of(description.clone()));
        let request = read(names.chain([value_of(dictionary.clone())]).collect());
        self.asked = Asked::Names(types, dictionary);
        Some(request)
    }

    /// Takes an answer; gives the types that are described now. What is not told stays unknown.
    pub(super) fn answered(&mut self, answer: Option<Response>, types: &mut DataTypes) -> Vec<NodeId> {
        match (std::mem::take(&mut self.asked), answer) {
            (Asked::Encodings(asked), Some(Response::Browse(told))) => {
                for (data_type, result) in asked.into_iter().zip(told.results) {
                    let is_binary = |one: &&ReferenceDescription| one.browse_name.name.as_deref() == Some(BINARY);
                    let encoding = result.references.iter().find(is_binary).and_then(|one| one.node_id.local());
                    self.encoded.extend(encoding.map(|encoding| (data_type, encoding)));
                }
            }
            (Asked::Descriptions(asked), Some(Response::Browse(told))) => {
                for ((data_type, encoding), result) in asked.into_iter().zip(told.results) {
                    self.described.extend(first(&result).map(|description| (data_type, encoding, description)));
                }
            }
            (Asked::Dictionaries(asked), Some(Response::Browse(told))) => {
                for ((data_type, encoding, description), result) in asked.into_iter().zip(told.results) {
                    self.kept.extend(first(&result).map(|dictionary| (data_type, encoding, description, dictionary)));
                }
            }
            (Asked::Names(asked, dictionary), Some(Response::Read(mut told))) => {
                let content = told.results.pop().and_then(|told| told.value);
                let Some(Variant::Scalar(Scalar::ByteString(xml))) = content else { return Vec::new() };
                let names = asked.into_iter().zip(told.results).filter_map(|((data_type, encoding, ..), told)| {
                    let Some(Variant::Scalar(Scalar::String(Some(name)))) = told.value else { return None };
                    Some(NamedType { name, data_type, encoding })
                });
                let named: Vec<_> = names.collect();
                if let Err(error) = types.add_dictionary(&dictionary, xml.as_bytes(), &named) {
                    tracing::warn!(%dictionary, %error, "a dictionary of types is not read");
                }
                return named.into_iter().map(|one| one.data_type).collect();
            }
            _ => {}
        }
        Vec::new()
    }
}

fn first(result: &BrowseResult) -> Option<NodeId> {
    result.references.iter().find_map(|reference| reference.node_id.local())
}
