use super::description::ServerDescription;
use super::limits::ServerLimits;
use super::points::Points;
use super::sessions::{ChannelInfo, Handled, Sessions};
use super::standing::{self, Standing};
use super::subscriptions::{Asker, Subscriptions};
use super::users::{User, Users};
use crate::service::CreateMonitoredItemsResponse;
use crate::service::{
    DeleteMonitoredItemsResponse, DeleteSubscriptionsResponse, ModifyMonitoredItemsResponse, RegisterNodesResponse,
    Request, Response, ResponseHeader, ServiceFault, SetMonitoringModeResponse, SetPublishingModeResponse,
    TimestampsToReturn, TransferSubscriptionsResponse, UnregisterNodesResponse,
};
use crate::space::Space;
use crate::structure::ServerState;
use crate::types::{DataValue, DateTime, NodeId, StatusCode, Variant};
use std::collections::{BTreeSet, HashMap};
use std::time::{Duration, Instant};

/// A server without I/O: its nodes, and the sessions and subscriptions of its clients.
///
/// After any call, poll [`Server::take_answers`] and [`Server::poll_timeout`].
///
/// Source: OPC 10000-4, section 5.
#[derive(Debug)]
pub struct Server {
    sessions: Sessions,
    pub(super) space: Space,
    pub(super) limits: ServerLimits,
    subscriptions: Subscriptions,
    pub(super) points: HashMap<u32, Points>,
    standing: Standing,
    refused: BTreeSet<&'static str>,
    pub(super) history_lag: Duration,
}

/// An answer, and where it goes.
#[derive(Debug, Clone, PartialEq)]
pub struct Answer {
    /// The channel.
    pub channel: u32,
    /// The request on it.
    pub request: u32,
    /// What is answered.
    pub response: Response,
}

/// What stands behind the nodes of a server.
pub trait Process {
    /// Takes a value that a node may have. Where that is good, the node has it from now on.
    fn write(&mut self, node: &NodeId, value: &Variant, user: &User) -> StatusCode;

    /// Carries out a method, whose arguments are as many and of such types as it takes.
    ///
    /// # Errors
    /// Why it was not carried out.
    fn call(
        &mut self,
        object: &NodeId,
        method: &NodeId,
        arguments: &[Variant],
        user: &User,
    ) -> Result<Vec<Variant>, StatusCode>;

    /// Whether the client is told what became of what it wrote or called last: where it is not, nobody knows. A fault.
    fn is_answered(&mut self) -> bool {
        true
    }
}

/// When something happens: by a clock that never leaps, and by the one on the wall.
pub type Now = (Instant, DateTime);

impl Server {
    /// One whose sessions are described, with its nodes in namespaces behind the standard's and its own.
    #[must_use]
    pub fn new(sessions: Sessions, mut space: Space, limits: ServerLimits, namespaces: &[&str]) -> Self {
        standing::fill_in(&mut space, sessions.description(), &limits, namespaces.iter().copied());
        let (subscriptions, standing) = (Subscriptions::default(), Standing::default());
        Self {
            sessions,
            space,
            limits,
            subscriptions,
            points: HashMap::new(),
            standing,
            refused: BTreeSet::new(),
            history_lag: Duration::ZERO,
        }
    }

    /// Does not offer a service, by the standard's name for its request, or offers it again.
    pub fn offer(&mut self, service: &'static str, is_offered: bool) {
        if is_offered {
            self.refused.remove(service);
        } else {
            self.refused.insert(service);
        }
    }

    /// Lets the subscriptions of a node tell nothing, not even that they live; or lets them tell again. A fault.
    pub fn hold(&mut self, node: &NodeId, is_held: bool) {
        self.subscriptions.hold(node, is_held);
    }

    /// Whether somebody watches a node.
    #[must_use]
    pub fn is_watched(&self, node: &NodeId) -> bool {
        self.subscriptions.is_watched(node)
    }

    /// Tells values from history no sooner than so long after they arose, as a historian does that writes in batches.
    pub const fn set_history_lag(&mut self, lag: Duration) {
        self.history_lag = lag;
    }

    /// Tells that the server works as it should, or that it does not.
    pub const fn set_state(&mut self, state: ServerState) {
        self.standing.state = state;
    }

    /// The sessions.
    #[must_use]
    pub const fn sessions(&self) -> &Sessions {
        &self.sessions
    }

    /// What the server is, to be changed: for those who connect from now on.
    pub const fn description_mut(&mut self) -> &mut ServerDescription {
        self.sessions.description_mut()
    }

    /// The nodes.
    #[must_use]
    pub const fn space(&self) -> &Space {
        &self.space
    }

    /// The nodes, to be changed; [`Server::changed`] tells of it.
    pub const fn space_mut(&mut self) -> &mut Space {
        &mut self.space
    }

    /// The limits, to be changed.
    pub const fn limits_mut(&mut self) -> &mut ServerLimits {
        &mut self.limits
    }

    /// Gives a variable a value, keeps it where the variable has a history, and tells whoever watches.
    pub fn set_value(&mut self, node: &NodeId, value: DataValue, wall: DateTime) {
        if let Some(variable) = self.space.variable_mut(node) {
            if let Some(history) = &mut variable.history {
                history.keep(DataValue { server_time: Some(wall), ..value.clone() });
            }
            variable.value = value;
            self.changed(node, wall);
        }
    }

    /// Tells whoever watches a node that something of it may be another.
    pub fn changed(&mut self, node: &NodeId, wall: DateTime) {
        self.subscriptions.changed(&self.space, node, wall);
    }

    /// Ends a session, as if nobody had used it for too long; its subscriptions go on until somebody takes them over.
    pub fn end_session(&mut self, session: u32) {
        self.sessions.end(session);
        self.session_ended(session, false);
    }

    /// Ends all sessions in the same way.
    pub fn end_sessions(&mut self) {
        for session in self.sessions.numbers() {
            self.end_session(session);
        }
    }

    /// Ends a subscription, and tells its session why.
    pub fn end_subscription(&mut self, subscription: u32, status: StatusCode, wall: DateTime) {
        self.subscriptions.end(subscription, status, wall);
    }

    fn session_ended(&mut self, session: u32, delete_subscriptions: bool) {
        self.points.remove(&session);
        self.subscriptions.session_ended(session, delete_subscriptions);
    }

    /// Takes a request; it may be answered later.
    pub fn handle(
        &mut self,
        (now, wall): Now,
        channel: ChannelInfo<'_>,
        (number, request): (u32, &Request),
        (users, process): (&dyn Users, &mut dyn Process),
    ) -> Option<Answer> {
        self.standing.tell(&mut self.space, self.sessions.description(), wall);
        let answer = |response| Some(Answer { channel: channel.id, request: number, response });
        match self.sessions.handle((now, wall), channel, request, users) {
            Handled::Answer(response) => {
                if matches!(request, Request::ActivateSession(_))
                    && let Some(session) = self.sessions.number(&request.header().authentication_token)
                {
                    self.subscriptions.moved(session, channel.id);
                }
                answer(*response)
            }
            Handled::Ended { session, delete_subscriptions, answer: response } => {
                self.session_ended(session, delete_subscriptions);
                answer(*response)
            }
            Handled::Of { session, user, largest_response } => {
                let asker = Asker { session, user: &user, channel: channel.id, request: number, now, wall };
                let response = match request {
                    Request::Publish(publish) => {
                        self.subscriptions.publish(&self.limits, asker, publish);
                        return None;
                    }
                    _ => self.carry_out(asker, request, process),
                };
                if matches!(request, Request::Write(_) | Request::Call(_)) && !process.is_answered() {
                    return None;
                }
                let too_large = |response: &Response| {
                    largest_response != 0
                        && response.to_bytes().len() > usize::try_from(largest_response).unwrap_or(usize::MAX)
                };
                let mut response = match response {
                    Ok(response) if too_large(&response) => fault(StatusCode::BAD_RESPONSE_TOO_LARGE),
                    Ok(response) => response,
                    Err(status) => fault(status),
                };
                let header = response.header_mut();
                (header.request_handle, header.timestamp) = (request.header().request_handle, wall);
                answer(response)
            }
        }
    }

    fn carry_out(
        &mut self,
        asker: Asker<'_>,
        request: &Request,
        process: &mut dyn Process,
    ) -> Result<Response, StatusCode> {
        if self.refused.contains(request.name()) {
            return Err(StatusCode::BAD_SERVICE_UNSUPPORTED);
        }
        let (session, wall, limits) = (asker.session, asker.wall, self.limits);
        let (space, subscriptions) = (&self.space, &mut self.subscriptions);
        Ok(match request {
            Request::Browse(request) => self.browse(session, request)?.into(),
            Request::BrowseNext(request) => self.browse_next(session, request)?.into(),
            Request::TranslateBrowsePathsToNodeIds(request) => self.translate(request)?.into(),
            Request::RegisterNodes(request) => {
                bounded(request.nodes_to_register.len(), limits.nodes_per_register)?;
                let registered_node_ids = request.nodes_to_register.clone();
                RegisterNodesResponse { registered_node_ids, ..RegisterNodesResponse::default() }.into()
            }
            Request::UnregisterNodes(request) => {
                bounded(request.nodes_to_unregister.len(), limits.nodes_per_register)?;
                UnregisterNodesResponse::default().into()
            }
            Request::Read(request) => self.read(wall, request)?.into(),
            Request::Write(request) => self.write(asker, request, process)?.into(),
            Request::Call(request) => self.call(asker.user, request, process)?.into(),
            Request::HistoryRead(request) => self.read_history(asker, request)?.into(),
            Request::CreateSubscription(request) => subscriptions.create(&limits, asker, request)?.into(),
            Request::ModifySubscription(request) => subscriptions.modify(&limits, asker, request)?.into(),
            Request::SetPublishingMode(request) => {
                bounded(request.subscription_ids.len(), limits.items_per_call)?;
                let set = |id: &u32| subscriptions.set_publishing(session, *id, request.publishing_enabled);
                let results = request.subscription_ids.iter().map(set).collect();
                SetPublishingModeResponse { results, ..SetPublishingModeResponse::default() }.into()
            }
            Request::Republish(request) => subscriptions.republish(session, request)?.into(),
            Request::TransferSubscriptions(request) => {
                bounded(request.subscription_ids.len(), limits.items_per_call)?;
                let results = subscriptions.transfer(asker, request);
                TransferSubscriptionsResponse { results, ..TransferSubscriptionsResponse::default() }.into()
            }
            Request::DeleteSubscriptions(request) => {
                bounded(request.subscription_ids.len(), limits.items_per_call)?;
                let delete = |id: &u32| subscriptions.delete(session, *id, wall);
                let results = request.subscription_ids.iter().map(delete).collect();
                DeleteSubscriptionsResponse { results, ..DeleteSubscriptionsResponse::default() }.into()
            }
            Request::CreateMonitoredItems(request) => {
                with_times(request.timestamps_to_return)?;
                bounded(request.items_to_create.len(), limits.items_per_call)?;
                let results = subscriptions.create_items((space, &limits), asker, request)?;
                CreateMonitoredItemsResponse { results, ..CreateMonitoredItemsResponse::default() }.into()
            }
            Request::ModifyMonitoredItems(request) => {
                with_times(request.timestamps_to_return)?;
                bounded(request.items_to_modify.len(), limits.items_per_call)?;
                let results = subscriptions.modify_items((space, &limits), asker, request)?;
                ModifyMonitoredItemsResponse { results, ..ModifyMonitoredItemsResponse::default() }.into()
            }
            Request::SetMonitoringMode(request) => {
                bounded(request.monitored_item_ids.len(), limits.items_per_call)?;
                let results = subscriptions.set_modes(space, asker, request)?;
                SetMonitoringModeResponse { results, ..SetMonitoringModeResponse::default() }.into()
            }
            Request::DeleteMonitoredItems(request) => {
                bounded(request.monitored_item_ids.len(), limits.items_per_call)?;
                let results =
                    subscriptions.delete_items(asker, request.subscription_id, &request.monitored_item_ids)?;
                DeleteMonitoredItemsResponse { results, ..DeleteMonitoredItemsResponse::default() }.into()
            }
            _ => return Err(StatusCode::BAD_SERVICE_UNSUPPORTED),
        })
    }

    /// Answers a request of nobody's session, for whoever has the server in hand: without users, and without waiting.
    ///
    /// # Errors
    /// The status of the fault.
    pub fn answer(
        &mut self,
        (now, wall): Now,
        request: &Request,
        process: &mut dyn Process,
    ) -> Result<Response, StatusCode> {
        let asker = Asker { session: 0, user: &User::Anonymous, channel: 0, request: 0, now, wall };
        self.carry_out(asker, request, process)
    }

    /// Lets time pass.
    pub fn handle_timeout(&mut self, (now, wall): Now) {
        self.standing.tell(&mut self.space, self.sessions.description(), wall);
        for session in self.sessions.handle_timeout(now) {
            self.session_ended(session, false);
        }
        self.subscriptions.handle_timeout(&self.space, now, wall);
    }

    /// When to call [`Server::handle_timeout`], if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.sessions.poll_timeout().into_iter().chain(self.subscriptions.poll_timeout()).min()
    }

    /// Answers to requests that had to wait.
    pub fn take_answers(&mut self) -> Vec<Answer> {
        self.subscriptions.take_answers()
    }
}

fn fault(service_result: StatusCode) -> Response {
    ServiceFault { response_header: ResponseHeader { service_result, ..ResponseHeader::default() } }.into()
}

/// Whether something is asked for, and not too much.
pub(super) const fn bounded(count: usize, most: usize) -> Result<(), StatusCode> {
    match count {
        0 => Err(StatusCode::BAD_NOTHING_TO_DO),
        count if most != 0 && count > most => Err(StatusCode::BAD_TOO_MANY_OPERATIONS),
        _ => Ok(()),
    }
}

pub(super) fn with_times(times: TimestampsToReturn) -> Result<(), StatusCode> {
    if times == TimestampsToReturn::Invalid { Err(StatusCode::BAD_TIMESTAMPS_TO_RETURN_INVALID) } else { Ok(()) }
}
