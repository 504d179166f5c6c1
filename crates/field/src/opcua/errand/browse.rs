//! Walks through the nodes of a server, and offers the variables that it finds.

use super::{End, Errand, Reply, Step};
use crate::link::Answer;
use crate::opcua::describing::{Describing, FoundNode};
use crate::opcua::facts::{ServerFacts, is_too_much};
use crate::opcua::locate::Locator;
use crate::opcua::nodes::NodeFinder;
use interlex_core::OfferEvent;
use interlex_core::description::OpcUaAddress;
use interlex_opcua::{
    BrowseDescription, BrowseDirection, BrowseNextRequest, BrowseRequest, BrowseResult, ByteString, DataTypes,
    ExpandedNodeId, LocalizedText, Namespaces, NodeClass, NodeId, QualifiedName, ReferenceDescription, Request,
    RequestError, Response, ids,
};
use std::collections::{HashSet, VecDeque};
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// What is looked for.
#[derive(Debug)]
pub(crate) struct BrowseWanted {
    pub(crate) device: String,
    pub(crate) start: Option<OpcUaAddress>,
    /// The node below which is looked, where it is another one than the start.
    pub(crate) below: Option<OpcUaAddress>,
    /// So many levels down.
    pub(crate) levels: u32,
    /// In small letters.
    pub(crate) text: String,
    pub(crate) by_path: bool,
    pub(crate) most: usize,
    pub(crate) standard: bool,
    pub(crate) methods: bool,
    pub(crate) events: mpsc::Sender<OfferEvent>,
}

/// Whoever listens takes what is told a moment later.
const TAKEN_LATER: Duration = Duration::from_millis(10);
/// So many variables are described at a time.
const AT_ONCE: usize = 100;
/// Object and variable; and method.
const CLASSES: u32 = 1 | 2;
const METHOD: u32 = 4;
const ALL_FIELDS: u32 = 63;

/// Walks from a start through all that is below it.
pub(in crate::opcua) struct Browse {
    wanted: BrowseWanted,
    locator: Option<Locator>,
    /// What is still to be looked at.
    open: VecDeque<FoundNode>,
    seen: HashSet<NodeId>,
    /// So many nodes at a time, where the server took no more; 0 for as many as it says.
    at_most: usize,
    asked: Asked,
    /// Places whose references were not all told.
    unfinished: VecDeque<(FoundNode, ByteString)>,
    /// Variables that are to be described.
    found: VecDeque<FoundNode>,
    describing: Option<Describing>,
    /// Finds what the structures among them are made of.
    finder: Option<NodeFinder>,
    types: DataTypes,
    namespaces: Namespaces,
    told: VecDeque<OfferEvent>,
    requests: u32,
    done: usize,
    is_begun: bool,
    is_over: bool,
    failed: Option<String>,
}

#[derive(Debug, Default)]
enum Asked {
    #[default]
    Nothing,
    Start,
    Below(Vec<FoundNode>),
    More(Vec<(FoundNode, ByteString)>),
    Description,
    Types,
}

impl Browse {
    pub(in crate::opcua) fn new(wanted: BrowseWanted) -> Self {
        Self {
            wanted,
            locator: None,
            open: VecDeque::new(),
            seen: HashSet::new(),
            at_most: 0,
            asked: Asked::Nothing,
            unfinished: VecDeque::new(),
            found: VecDeque::new(),
            describing: None,
            finder: None,
            types: DataTypes::default(),
            namespaces: Namespaces::default(),
            told: VecDeque::new(),
            requests: 0,
            done: 0,
            is_begun: false,
            is_over: false,
            failed: None,
        }
    }

    fn begin(&mut self, facts: &ServerFacts) {
        self.is_begun = true;
        self.namespaces = facts.namespaces.clone();
        let (start, below) = (self.wanted.start.as_ref(), self.wanted.below.iter());
        self.locator = Some(Locator::new(start, below, &facts.namespaces, 1));
    }

    fn begin_at(&mut self, node: NodeId) {
        self.seen.insert(node.clone());
        let way =
            self.wanted.below.as_ref().filter(|below| below.is_path()).map(ToString::to_string).unwrap_or_default();
        let (path, title, properties) = (Vec::new(), String::new(), Vec::new());
        self.open.push_back(FoundNode { node, path, way, class: NodeClass::Object, level: 0, title, properties });
    }

    fn request(&mut self, facts: &ServerFacts) -> Option<Request> {
        if !self.is_begun {
            self.begin(facts);
        }
        if let Some(locator) = &mut self.locator {
            if let Some(request) = locator.next() {
                self.asked = Asked::Start;
                return Some(request);
            }
            if let Some(locator) = self.locator.take() {
                let start = locator.start().cloned().map_err(Clone::clone);
                match locator.found().pop().unwrap_or(start) {
                    Ok(node) => self.begin_at(node),
                    Err(no_node) => self.failed = Some(no_node.why),
                }
            }
        }
        let most = facts.most.browse;
        let at_once = if self.at_most == 0 { most } else { most.min(self.at_most) }.max(1);
        // What was begun is ended first: a server keeps few places to go on from.
        if !self.unfinished.is_empty() {
            let chosen: Vec<_> = self.unfinished.drain(..at_once.min(self.unfinished.len())).collect();
            let continuation_points = chosen.iter().map(|(_, point)| point.clone()).collect();
            self.asked = Asked::More(chosen);
            return Some(BrowseNextRequest { continuation_points, ..BrowseNextRequest::default() }.into());
        }
        let is_last = self.open.is_empty();
        if self.describing.is_none() && !self.found.is_empty() && (is_last || self.found.len() >= AT_ONCE) {
            let chosen = self.found.drain(..AT_ONCE.min(self.found.len())).collect();
            self.describing = Some(Describing::new(chosen));
        }
        if let Some(describing) = &mut self.describing {
            if let Some(request) = describing.next(facts.most.read) {
                self.asked = Asked::Description;
                return Some(request);
            }
            let finder = self.finder.get_or_insert_with(|| NodeFinder::new(describing.structures(), [], []));
            if let Some(request) = finder.next(facts.most) {
                self.asked = Asked::Types;
                return Some(request);
            }
            self.finder = None;
            if let Some(described) = self.describing.take() {
                let offers = described.offers(&self.namespaces, self.wanted.by_path, &self.types);
                self.told.push_back(OfferEvent::Points { offers });
                return self.request(facts);
            }
        }
        if is_last {
            return None;
        }
        let chosen: Vec<_> = self.open.drain(..at_once.min(self.open.len())).collect();
        let below = |place: &FoundNode| BrowseDescription {
            node_id: place.node.clone(),
            browse_direction: BrowseDirection::Forward,
            reference_type_id: ids::HIERARCHICAL_REFERENCES,
            include_subtypes: true,
            node_class_mask: if self.wanted.methods { CLASSES | METHOD } else { CLASSES },
            result_mask: ALL_FIELDS,
        };
        let nodes_to_browse = chosen.iter().map(below).collect();
        self.asked = Asked::Below(chosen);
        Some(BrowseRequest { nodes_to_browse, ..BrowseRequest::default() }.into())
    }

    fn take(&mut self, outcome: Result<Response, RequestError>) {
        match (std::mem::take(&mut self.asked), outcome) {
            (Asked::Start, outcome) => self.locator.iter_mut().for_each(|locator| locator.answered(outcome.clone())),
            (Asked::Description, outcome) => {
                self.describing.iter_mut().for_each(|describing| describing.answered(outcome.clone()));
            }
            (Asked::Types, outcome) => {
                self.finder.iter_mut().for_each(|finder| finder.answered(outcome.clone(), &mut self.types));
            }
            (Asked::Below(places), Ok(Response::Browse(told))) => self.below(places, told.results),
            (Asked::More(places), Ok(Response::BrowseNext(told))) => {
                self.below(places.into_iter().map(|(place, _)| place).collect(), told.results);
            }
            (Asked::Below(places), Err(error)) if is_too_much(&error) && places.len() > 1 => {
                self.at_most = (places.len() / 2).max(1);
                places.into_iter().rev().for_each(|place| self.open.push_front(place));
            }
            (Asked::More(places), Err(error)) if is_too_much(&error) && places.len() > 1 => {
                self.at_most = (places.len() / 2).max(1);
                places.into_iter().rev().for_each(|place| self.unfinished.push_front(place));
            }
            (_, Ok(_)) => self.failed = Some("the server answered something else".to_owned()),
            (_, Err(error)) => self.failed = Some(error.to_string()),
        }
    }

    fn below(&mut self, places: Vec<FoundNode>, results: Vec<BrowseResult>) {
        for (mut place, result) in places.into_iter().zip(results) {
            let status = result.status_code;
            if status.is_bad() {
                let path = place.path.join("/");
                // A node that is not shown to us has nothing below it.
                self.told.push_back(OfferEvent::Note { text: format!("{path}: {status}") });
                continue;
            }
            for reference in result.references {
                self.reference(&mut place, reference);
            }
            if !result.continuation_point.as_bytes().is_empty() {
                self.unfinished.push_back((place, result.continuation_point));
                continue;
            }
            self.done += 1;
            if place.has_properties() && self.is_wanted(&place) {
                self.found.push_back(place);
            }
        }
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let total = count(self.done + self.open.len() + self.unfinished.len());
        self.told.push_back(OfferEvent::Progress { done: count(self.done), total });
    }

    fn is_wanted(&self, place: &FoundNode) -> bool {
        let text = &self.wanted.text;
        text.is_empty()
            || place.path.join("/").to_lowercase().contains(text)
            || place.title.to_lowercase().contains(text)
    }

    fn reference(&mut self, place: &mut FoundNode, reference: ReferenceDescription) {
        let ReferenceDescription { reference_type_id, node_id, browse_name, display_name, node_class, .. } = reference;
        let Some(node) = local(&node_id, &self.namespaces) else { return };
        let is_property = reference_type_id == ids::HAS_PROPERTY;
        let name = browse_name.name.clone().unwrap_or_default();
        if is_property && place.has_properties() {
            return place.properties.push((name, node));
        }
        // What the standard gives every server is a thousand nodes that nobody asked for.
        let is_standard = node.namespace == 0 && !self.wanted.standard;
        if is_standard || self.seen.len() >= self.wanted.most {
            if !is_standard && self.failed.is_none() {
                self.failed =
                    Some(format!("there are more than {} nodes; the rest was not looked at", self.wanted.most));
            }
            return;
        }
        if place.level >= self.wanted.levels || !self.seen.insert(node.clone()) {
            return;
        }
        let path = [&place.path[..], std::slice::from_ref(&name)].concat();
        let step = if is_property { '.' } else { '/' };
        let way = format!("{}{step}{}", place.way, self.step(&browse_name));
        let LocalizedText { text, .. } = display_name;
        let title = text.filter(|title| *title != name).unwrap_or_default();
        let level = place.level + 1;
        if level == self.wanted.levels && node_class == NodeClass::Object {
            // What it has is looked for when somebody asks.
            let address = if self.wanted.by_path { way } else { self.namespaces.text(&node) };
            self.told.push_back(OfferEvent::Note { text: format!("{}: more below {address}", path.join("/")) });
            return;
        }
        self.open.push_back(FoundNode { node, path, way, class: node_class, level, title, properties: Vec::new() });
    }

    /// A name in a browse path: with the URI of its namespace, but for the standard's and the server's own.
    fn step(&self, name: &QualifiedName) -> String {
        let text = escaped(name.name.as_deref().unwrap_or_default());
        match (name.namespace, self.namespaces.uris().get(usize::from(name.namespace))) {
            (0, _) => text,
            (1, _) | (_, None) => format!("{}:{text}", name.namespace),
            (_, Some(uri)) => format!("nsu={};{text}", escaped(uri)),
        }
    }

    fn end(&mut self) {
        if !self.is_over {
            self.is_over = true;
            self.told.push_back(match self.failed.take() {
                Some(why) => OfferEvent::Failed { why },
                None => OfferEvent::Done { requests: self.requests },
            });
        }
    }
}

/// What means something in a path has a mark before it.
fn escaped(name: &str) -> String {
    let mut text = String::with_capacity(name.len());
    for letter in name.chars() {
        if matches!(letter, '/' | '.' | '<' | '>' | ':' | '#' | '!' | '&') {
            text.push('&');
        }
        text.push(letter);
    }
    text
}

/// A node of this server.
fn local(node: &ExpandedNodeId, namespaces: &Namespaces) -> Option<NodeId> {
    node.local().or_else(|| if node.server == 0 { namespaces.node(&node.to_string()).ok() } else { None })
}

impl Errand for Browse {
    fn device(&self) -> &str {
        &self.wanted.device
    }

    fn next(&mut self, facts: &ServerFacts, now: Instant) -> Step {
        let nothing = || Step::Done(Box::new(Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new())))));
        loop {
            while let Some(event) = self.told.pop_front() {
                match self.wanted.events.try_send(event) {
                    Ok(()) => {}
                    Err(TrySendError::Full(event)) => {
                        self.told.push_front(event);
                        return Step::Wait(now + TAKEN_LATER);
                    }
                    // Whoever listened has gone: there is nobody to tell.
                    Err(TrySendError::Closed(_)) => return nothing(),
                }
            }
            if self.is_over {
                return nothing();
            }
            // What was found is told, also where the rest is not to be had.
            let is_stuck = self.failed.is_some() && self.open.is_empty() && self.found.is_empty();
            match if is_stuck && self.describing.is_none() { None } else { self.request(facts) } {
                Some(request) => return Step::Ask(Box::new(request)),
                None if self.told.is_empty() => self.end(),
                None => {}
            }
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        self.requests += 1;
        let is_lost =
            matches!(&reply.outcome, Err(RequestError::Lost | RequestError::Timeout | RequestError::NotSent(_)));
        self.take(reply.outcome);
        if is_lost {
            self.open.clear();
            self.unfinished.clear();
            self.found.clear();
            (self.describing, self.finder) = (None, None);
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        if self.requests == 0 {
            return Answer::Found(Err(error));
        }
        Answer::Found(Ok(Box::new(vec![OfferEvent::Failed { why: error.to_string() }])))
    }
}
