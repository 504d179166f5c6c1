use super::Reply;
use crate::opcua::facts::ServerFacts;
use crate::opcua::locate::{Locator, NoNode};
use crate::opcua::nodes::NodeFinder;
use interlex_core::description::{Device, OpcUaAddress, Point};
use interlex_opcua::{DataTypes, NodeId, Request, RequestError, Response};

/// The node of one point: looked for, with what its structures are made of.
pub(super) struct Target {
    start: Option<OpcUaAddress>,
    address: Option<OpcUaAddress>,
    needs_structure: bool,
    stage: Stage,
    pub(super) types: DataTypes,
}

enum Stage {
    New,
    Locating(Locator),
    Structures(NodeId, NodeFinder),
    Found(NodeId),
    Missing(NoNode),
}

impl Target {
    pub(super) fn new(device: &Device, point: &Point, needs_structure: bool) -> Self {
        let start = device.protocol.opcua().and_then(|own| own.start.clone());
        let address = point.opcua().map(|(address, _)| address.clone());
        Self { start, address, needs_structure, stage: Stage::New, types: DataTypes::default() }
    }

    /// The next question on the way to it; none when it is found, or is not there.
    pub(super) fn next(&mut self, facts: &ServerFacts) -> Option<Request> {
        if matches!(self.stage, Stage::New) {
            let address = self.address.iter();
            self.stage = Stage::Locating(Locator::new(self.start.as_ref(), address, &facts.namespaces, 1));
        }
        if let Stage::Locating(locator) = &mut self.stage {
            if let Some(request) = locator.next() {
                return Some(request);
            }
            let Stage::Locating(locator) = std::mem::replace(&mut self.stage, Stage::New) else { return None };
            self.stage = match locator.found().into_iter().next() {
                Some(Ok(node)) if self.needs_structure => {
                    Stage::Structures(node.clone(), NodeFinder::new([node], [], []))
                }
                Some(Ok(node)) => Stage::Found(node),
                Some(Err(no_node)) => Stage::Missing(no_node),
                None => {
                    let status = interlex_opcua::StatusCode::BAD_NODE_ID_INVALID;
                    Stage::Missing(NoNode { status, why: "the address is of another protocol".to_owned() })
                }
            };
        }
        if let Stage::Structures(node, finder) = &mut self.stage {
            if let Some(request) = finder.next(facts.most) {
                return Some(request);
            }
            self.stage = Stage::Found(node.clone());
        }
        None
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>) {
        match &mut self.stage {
            Stage::Locating(locator) => locator.answered(answer),
            Stage::Structures(_, finder) => finder.answered(answer, &mut self.types),
            Stage::New | Stage::Found(_) | Stage::Missing(_) => {}
        }
    }

    /// Whether it is still looked for.
    pub(super) const fn is_open(&self) -> bool {
        matches!(self.stage, Stage::New | Stage::Locating(_) | Stage::Structures(..))
    }

    /// The node, or why there is none; none of both while it is looked for.
    pub(super) fn found(&self) -> Option<Result<&NodeId, &NoNode>> {
        match &self.stage {
            Stage::Found(node) => Some(Ok(node)),
            Stage::Missing(no_node) => Some(Err(no_node)),
            Stage::New | Stage::Locating(_) | Stage::Structures(..) => None,
        }
    }

    /// Takes an answer on the way to it; gives it back, where it is there.
    pub(super) fn take(&mut self, reply: Reply) -> Option<Reply> {
        if !self.is_open() {
            return Some(reply);
        }
        self.answered(reply.outcome);
        None
    }
}
