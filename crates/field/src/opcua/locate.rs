//! From addresses to the nodes that they mean in a server.

use super::facts::is_too_much;
use interlex_core::description::OpcUaAddress;
use interlex_opcua::{
    AddressError, BrowsePath, Namespaces, NodeId, PathText, RelativePath, Request, RequestError, Response, StatusCode,
    TranslateBrowsePathsToNodeIdsRequest, ids,
};
use std::collections::VecDeque;

/// Why an address means no node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct NoNode {
    pub(super) status: StatusCode,
    pub(super) why: String,
}

/// Asks a server for the nodes that addresses mean, some at a time: no I/O.
#[derive(Debug)]
pub(super) struct Locator {
    at_once: usize,
    /// The path to the node that the others start from, while that is not known.
    start_path: Option<RelativePath>,
    start: NodeId,
    /// Why the start node is not there.
    no_start: Option<NoNode>,
    paths: VecDeque<(usize, RelativePath)>,
    /// The places of those that are asked for.
    asked: Vec<(usize, RelativePath)>,
    found: Vec<Option<Result<NodeId, NoNode>>>,
}

impl NoNode {
    fn of(error: &AddressError) -> Self {
        Self { status: StatusCode::BAD_NODE_ID_UNKNOWN, why: error.to_string() }
    }
}

impl Locator {
    /// Where to look for addresses, from a start node.
    pub(super) fn new<'a>(
        start: Option<&OpcUaAddress>,
        addresses: impl Iterator<Item = &'a OpcUaAddress>,
        namespaces: &Namespaces,
        at_once: usize,
    ) -> Self {
        let mut locator = Self {
            at_once: at_once.max(1),
            start_path: None,
            start: ids::OBJECTS_FOLDER,
            no_start: None,
            paths: VecDeque::new(),
            asked: Vec::new(),
            found: Vec::new(),
        };
        for (place, address) in addresses.enumerate() {
            let found = if address.is_path() {
                match path(address, namespaces) {
                    Ok(path) => {
                        locator.paths.push_back((place, path));
                        None
                    }
                    Err(no_node) => Some(Err(no_node)),
                }
            } else {
                Some(namespaces.node(address.as_str()).map_err(|error| NoNode::of(&error)))
            };
            locator.found.push(found);
        }
        match start.map(|start| (start, start.is_path())) {
            None => {}
            Some((start, true)) => match path(start, namespaces) {
                Ok(path) => locator.start_path = Some(path),
                Err(no_node) => locator.fail(&no_node),
            },
            Some((start, false)) => match namespaces.node(start.as_str()) {
                Ok(node) => locator.start = node,
                Err(error) => locator.fail(&NoNode::of(&error)),
            },
        }
        locator
    }

    /// The start node is not there: nor is what starts from it.
    fn fail(&mut self, no_node: &NoNode) {
        let why = format!("start: {}", no_node.why);
        self.no_start = Some(NoNode { why: why.clone(), ..no_node.clone() });
        for (place, _) in self.paths.drain(..) {
            let found = self.found.get_mut(place);
            found.into_iter().for_each(|found| *found = Some(Err(NoNode { why: why.clone(), ..no_node.clone() })));
        }
    }

    /// What to ask next; none when all is known, or an answer is waited for.
    pub(super) fn next(&mut self) -> Option<Request> {
        if !self.asked.is_empty() || (self.paths.is_empty() && self.start_path.is_none()) {
            return None;
        }
        let of = |starting_node: &NodeId, relative_path: &RelativePath| BrowsePath {
            starting_node: starting_node.clone(),
            relative_path: relative_path.clone(),
        };
        let browse_paths = match &self.start_path {
            Some(path) => {
                self.asked = vec![(usize::MAX, path.clone())];
                vec![of(&ids::OBJECTS_FOLDER, path)]
            }
            None => {
                self.asked = self.paths.drain(..self.at_once.min(self.paths.len())).collect();
                self.asked.iter().map(|(_, path)| of(&self.start, path)).collect()
            }
        };
        let request = TranslateBrowsePathsToNodeIdsRequest { browse_paths, ..Default::default() };
        Some(request.into())
    }

    /// Whether nothing is to be asked any more.
    pub(super) fn is_done(&self) -> bool {
        self.asked.is_empty() && self.paths.is_empty() && self.start_path.is_none()
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>) {
        let asked = std::mem::take(&mut self.asked);
        let failure = |error: RequestError| {
            let status = match &error {
                RequestError::Fault(status) => status.code(),
                _ => StatusCode::BAD_TIMEOUT,
            };
            NoNode { status, why: error.to_string() }
        };
        let results = match answer {
            Ok(Response::TranslateBrowsePathsToNodeIds(told)) if told.results.len() == asked.len() => told.results,
            Err(error) if is_too_much(&error) && asked.len() > 1 => {
                self.at_once = (asked.len() / 2).max(1);
                return asked.into_iter().rev().for_each(|path| self.paths.push_front(path));
            }
            Ok(_) => return self.give_up(&asked, &failure(RequestError::Fault(StatusCode::BAD_UNKNOWN_RESPONSE))),
            Err(error) => return self.give_up(&asked, &failure(error)),
        };
        for ((place, _), result) in asked.into_iter().zip(results) {
            let target = result.targets.iter().find(|target| target.remaining_path_index == u32::MAX);
            let found = match target.and_then(|target| target.target_id.local()) {
                Some(node) if !result.status_code.is_bad() => Ok(node),
                _ => {
                    let status = Some(result.status_code.code()).filter(|status| status.is_bad());
                    let status = status.unwrap_or(StatusCode::BAD_NO_MATCH);
                    Err(NoNode { status, why: format!("the path leads nowhere: {status}") })
                }
            };
            match (self.start_path.take_if(|_| place == usize::MAX), found) {
                (Some(_), Ok(node)) => self.start = node,
                (Some(_), Err(no_node)) => self.fail(&no_node),
                (None, found) => self.found.get_mut(place).into_iter().for_each(|known| *known = Some(found.clone())),
            }
        }
    }

    fn give_up(&mut self, asked: &[(usize, RelativePath)], no_node: &NoNode) {
        if self.start_path.take().is_some() {
            return self.fail(no_node);
        }
        for (place, _) in asked {
            self.found.get_mut(*place).into_iter().for_each(|known| *known = Some(Err(no_node.clone())));
        }
    }

    /// What was found, in the order of the addresses.
    pub(super) fn found(self) -> Vec<Result<NodeId, NoNode>> {
        let unknown = || Err(NoNode { status: StatusCode::BAD_NO_MATCH, why: "not asked for".to_owned() });
        self.found.into_iter().map(|found| found.unwrap_or_else(unknown)).collect()
    }

    /// The node that paths start from, once all is known.
    pub(super) fn start(&self) -> Result<&NodeId, &NoNode> {
        match &self.no_start {
            Some(no_node) => Err(no_node),
            None => Ok(&self.start),
        }
    }
}

fn path(address: &OpcUaAddress, namespaces: &Namespaces) -> Result<RelativePath, NoNode> {
    let path: PathText = address
        .as_str()
        .parse()
        .map_err(|error| NoNode { status: StatusCode::BAD_SYNTAX_ERROR, why: format!("{error}") })?;
    namespaces.path(&path).map_err(|error| NoNode::of(&error))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What the description takes for an address is one, and nothing else: two readers of the same grammars agree.
    fn agree(text: &str) {
        let described = text.parse::<OpcUaAddress>();
        let is_path = text.trim().starts_with(['/', '.', '<']);
        let is_known = if is_path {
            // A value has a name of its own.
            let path = text.trim().parse::<PathText>();
            path.is_ok_and(|path| path.0.last().is_some_and(|step| step.target.is_some()))
        } else {
            let uri = text.trim().strip_prefix("nsu=").and_then(|rest| rest.split_once(';')).map(|(uri, _)| uri);
            let known =
                Namespaces::new(uri.map(|uri| uri.replace("%3B", ";").replace("%25", "%")).into_iter().collect());
            uri != Some("") && known.node(text.trim()).is_ok()
        };
        assert_eq!(described.is_ok(), is_known, "{text:?}: {described:?}");
    }

    #[test]
    fn addresses_of_every_form_are_read_alike() {
        for text in [
            "i=2258",
            "ns=2;s=Engine.Speed",
            "nsu=urn:alderfen:chp;i=1042",
            "ns=70000;i=1",
            "ns=2",
            "ns=;i=1",
            "i=-1",
            "g=72962b91-fa75-4ae6-8d28-b404dc7daf63",
            "g=72962b91",
            "b=AAEC",
            "b=AAE",
            "b=AAECAw==",
            "b=AAECAx==",
            "b=",
            "s=",
            "/2:Engine/2:Speed",
            "/2:Engine.0:EURange",
            "<#!2:Feeds>2:x",
            "<!#2:Feeds>2:x",
            "<##2:Feeds>2:x",
            "/",
            "/2:",
            "/x:Engine",
            "/2:Engine&",
            "/a&/b",
            "/nsu=urn&:x;Engine",
            "/nsu=;x",
            "nsu=;i=1",
            "",
            " ",
            "Engine",
            "<2:Feeds/2:x",
            "//2:x",
        ] {
            agree(text);
        }
    }

    proptest! {
        #[test]
        fn any_texts_are_read_alike(text in "[/.<>:#!&a-c0-9=;+]{0,12}|(ns=[0-9]{0,6};)?[isgb]=[0-9a-fA-F/+=-]{0,40}|nsu=[a:]{0,3};[isgb]=.{0,5}") {
            agree(&text);
        }
    }

    #[test]
    fn paths_start_where_the_device_does_and_less_is_asked_for_where_that_is_too_much() {
        use interlex_opcua::{BrowsePathResult, BrowsePathTarget, TranslateBrowsePathsToNodeIdsResponse};
        let addresses: Vec<OpcUaAddress> =
            ["/2:a", "ns=9;i=1", "/2:b", "nsu=urn:x;i=1"].iter().map(|text| text.parse().unwrap()).collect();
        let start = "/2:Engine".parse().unwrap();
        let mut locator = Locator::new(Some(&start), addresses.iter(), &Namespaces::default(), 10);
        let asked = |locator: &mut Locator| match locator.next() {
            Some(Request::TranslateBrowsePathsToNodeIds(request)) => {
                request.browse_paths.iter().map(|path| path.starting_node.to_string()).collect::<Vec<_>>()
            }
            other => panic!("{other:?}"),
        };
        let told = |nodes: &[u32]| {
            let target = |number: &u32| BrowsePathTarget {
                target_id: interlex_opcua::ExpandedNodeId {
                    namespace: interlex_opcua::Namespace::Index(2),
                    identifier: interlex_opcua::Identifier::Numeric(*number),
                    ..Default::default()
                },
                remaining_path_index: u32::MAX,
            };
            let result = |number| BrowsePathResult { targets: vec![target(number)], ..BrowsePathResult::default() };
            let results = nodes.iter().map(result).collect();
            Ok(TranslateBrowsePathsToNodeIdsResponse { results, ..Default::default() }.into())
        };
        assert_eq!(asked(&mut locator), ["i=85"], "the start, from the Objects folder");
        locator.answered(told(&[7]));
        assert_eq!(asked(&mut locator), ["ns=2;i=7", "ns=2;i=7"]);
        locator.answered(Err(RequestError::Fault(StatusCode::BAD_TOO_MANY_OPERATIONS)));
        assert_eq!(asked(&mut locator), ["ns=2;i=7"], "one at a time now");
        locator.answered(told(&[11]));
        assert!(!locator.is_done());
        assert_eq!(asked(&mut locator).len(), 1);
        locator.answered(Ok(TranslateBrowsePathsToNodeIdsResponse {
            results: vec![BrowsePathResult { status_code: StatusCode::BAD_NO_MATCH, ..Default::default() }],
            ..Default::default()
        }
        .into()));
        assert!(locator.is_done());
        let found: Vec<_> = locator.found().into_iter().map(|found| found.map(|node| node.to_string())).collect();
        let why = |at: usize| found[at].as_ref().unwrap_err().why.clone();
        assert_eq!((found[0].clone(), found[1].clone()), (Ok("ns=2;i=11".into()), Ok("ns=9;i=1".into())));
        assert_eq!(why(2), "the path leads nowhere: BadNoMatch");
        assert_eq!(why(3), "the server has no namespace urn:x");
    }
}
