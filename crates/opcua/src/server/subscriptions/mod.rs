//! Subscriptions: what clients watch, and how it is told.
//!
//! Source: OPC 10000-4, sections 5.13 and 5.14.

mod filter;
mod item;
mod items;
mod subscription;

use super::limits::ServerLimits;
use super::{Answer, User};
use crate::service::{
    CreateSubscriptionRequest, CreateSubscriptionResponse, ModifySubscriptionRequest, ModifySubscriptionResponse,
    NotificationMessage, PublishRequest, PublishResponse, RepublishRequest, RepublishResponse, Response,
    ResponseHeader, ServiceFault, TransferResult, TransferSubscriptionsRequest,
};
use crate::space::Space;
use crate::types::{DateTime, NodeId, StatusCode};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap, VecDeque};
use std::time::{Duration, Instant};
use subscription::{Subscription, Tick};

/// The subscriptions of a server.
#[derive(Debug, Default)]
pub(super) struct Subscriptions {
    all: BTreeMap<u32, Subscription>,
    last_id: u32,
    /// The publish requests of sessions, the oldest first.
    asked: HashMap<u32, VecDeque<Waiting>>,
    /// What became of subscriptions that are no more.
    farewells: HashMap<u32, VecDeque<(u32, NotificationMessage)>>,
    /// The items that are told of every change of a node.
    watchers: HashMap<NodeId, BTreeSet<(u32, u32)>>,
    /// When items are looked at; those that are looked at later by now, or not at all, are passed over.
    looks: BinaryHeap<Reverse<(Instant, u32, u32)>>,
    /// Nodes whose subscriptions tell nothing: a fault.
    held: BTreeSet<NodeId>,
    answers: Vec<Answer>,
}

/// A publish request.
#[derive(Debug)]
struct Waiting {
    channel: u32,
    request: u32,
    handle: u32,
    /// What became of its acknowledgements.
    results: Vec<StatusCode>,
    /// Nobody waits for it after that.
    until: Option<Instant>,
}

/// Who asks, and when.
#[derive(Debug, Clone, Copy)]
pub(super) struct Asker<'a> {
    pub(super) session: u32,
    pub(super) user: &'a User,
    pub(super) channel: u32,
    pub(super) request: u32,
    pub(super) now: Instant,
    pub(super) wall: DateTime,
}

impl Subscriptions {
    pub(super) fn create(
        &mut self,
        limits: &ServerLimits,
        asker: Asker<'_>,
        request: &CreateSubscriptionRequest,
    ) -> Result<CreateSubscriptionResponse, StatusCode> {
        if limits.subscriptions != 0 && self.all.len() >= limits.subscriptions {
            return Err(StatusCode::BAD_TOO_MANY_SUBSCRIPTIONS);
        }
        if self.last_id == 0 {
            // Numbers of a server that was started anew are none of before.
            let mut bytes = [0; 4];
            getrandom::fill(&mut bytes).map_err(|_| StatusCode::BAD_INTERNAL_ERROR)?;
            self.last_id = u32::from_le_bytes(bytes) >> 1;
        }
        self.last_id += 1;
        let kept = limits.kept_messages;
        let mut subscription = Subscription::new(asker.session, asker.user.clone(), asker.now, kept);
        let counts = (request.requested_lifetime_count, request.requested_max_keep_alive_count);
        revise(&mut subscription, limits, request.requested_publishing_interval, counts);
        subscription.most_notifications = most(request.max_notifications_per_publish);
        (subscription.is_enabled, subscription.priority) = (request.publishing_enabled, request.priority);
        subscription.due = asker.now + subscription.interval;
        let response = CreateSubscriptionResponse {
            subscription_id: self.last_id,
            revised_publishing_interval: subscription.interval.as_secs_f64() * 1000.0,
            revised_lifetime_count: subscription.lifetime_count,
            revised_max_keep_alive_count: subscription.keep_alive_count,
            ..CreateSubscriptionResponse::default()
        };
        self.all.insert(self.last_id, subscription);
        Ok(response)
    }

    pub(super) fn modify(
        &mut self,
        limits: &ServerLimits,
        asker: Asker<'_>,
        request: &ModifySubscriptionRequest,
    ) -> Result<ModifySubscriptionResponse, StatusCode> {
        let subscription = self.own(asker.session, request.subscription_id)?;
        let counts = (request.requested_lifetime_count, request.requested_max_keep_alive_count);
        revise(subscription, limits, request.requested_publishing_interval, counts);
        subscription.most_notifications = most(request.max_notifications_per_publish);
        subscription.priority = request.priority;
        subscription.due = subscription.due.min(asker.now + subscription.interval);
        subscription.asked();
        Ok(ModifySubscriptionResponse {
            revised_publishing_interval: subscription.interval.as_secs_f64() * 1000.0,
            revised_lifetime_count: subscription.lifetime_count,
            revised_max_keep_alive_count: subscription.keep_alive_count,
            ..ModifySubscriptionResponse::default()
        })
    }

    pub(super) fn set_publishing(&mut self, session: u32, id: u32, is_enabled: bool) -> StatusCode {
        match self.own(session, id) {
            Ok(subscription) => {
                subscription.is_enabled = is_enabled;
                subscription.asked();
                StatusCode::GOOD
            }
            Err(status) => status,
        }
    }

    /// Keeps a publish request until there is something to tell; it may be answered at once.
    pub(super) fn publish(&mut self, limits: &ServerLimits, asker: Asker<'_>, request: &PublishRequest) {
        let session = asker.session;
        let acknowledgements = request.subscription_acknowledgements.iter();
        let results = acknowledgements.map(|acknowledged| {
            self.own(session, acknowledged.subscription_id)
                .map_or_else(|status| status, |subscription| subscription.acknowledge(acknowledged.sequence_number))
        });
        let results = results.collect();
        let header = &request.request_header;
        let hint = Duration::from_millis(header.timeout_hint.into());
        let waiting = Waiting {
            channel: asker.channel,
            request: asker.request,
            handle: header.request_handle,
            results,
            until: (!hint.is_zero()).then(|| asker.now + hint),
        };
        let has_farewell = self.farewells.get(&session).is_some_and(|told| !told.is_empty());
        if !has_farewell && !self.all.values().any(|subscription| subscription.session == Some(session)) {
            return self.refuse(&waiting, StatusCode::BAD_NO_SUBSCRIPTION, asker.wall);
        }
        for subscription in self.all.values_mut().filter(|subscription| subscription.session == Some(session)) {
            subscription.asked();
        }
        let asked = self.asked.entry(session).or_default();
        asked.push_back(waiting);
        if asked.len() > limits.publish_requests.max(1)
            && let Some(oldest) = asked.pop_front()
        {
            self.refuse(&oldest, StatusCode::BAD_TOO_MANY_PUBLISH_REQUESTS, asker.wall);
        }
        self.tell_late(session, asker.wall);
    }

    /// A message once more.
    pub(super) fn republish(
        &mut self,
        session: u32,
        request: &RepublishRequest,
    ) -> Result<RepublishResponse, StatusCode> {
        let subscription = self.own(session, request.subscription_id)?;
        subscription.asked();
        let message = subscription.again(request.retransmit_sequence_number);
        let notification_message = message.cloned().ok_or(StatusCode::BAD_MESSAGE_NOT_AVAILABLE)?;
        Ok(RepublishResponse { notification_message, ..RepublishResponse::default() })
    }

    /// Gives subscriptions to another session of the same user.
    pub(super) fn transfer(&mut self, asker: Asker<'_>, request: &TransferSubscriptionsRequest) -> Vec<TransferResult> {
        let ids = request.subscription_ids.iter();
        ids.map(|id| match self.take_over(asker, *id, request.send_initial_values) {
            Ok(available_sequence_numbers) => {
                TransferResult { status_code: StatusCode::GOOD, available_sequence_numbers }
            }
            Err(status_code) => TransferResult { status_code, ..TransferResult::default() },
        })
        .collect()
    }

    fn take_over(&mut self, asker: Asker<'_>, id: u32, with_values: bool) -> Result<Vec<u32>, StatusCode> {
        let subscription = self.all.get_mut(&id).ok_or(StatusCode::BAD_SUBSCRIPTION_ID_INVALID)?;
        if subscription.user != *asker.user {
            return Err(StatusCode::BAD_USER_ACCESS_DENIED);
        }
        let before = subscription.session.replace(asker.session).filter(|before| *before != asker.session);
        subscription.asked();
        if with_values {
            subscription.items.values_mut().for_each(|item| {
                item.repeat();
            });
            subscription.settle();
        }
        let available = subscription.available();
        if let Some(before) = before {
            let told = subscription.farewell(StatusCode::GOOD_SUBSCRIPTION_TRANSFERRED, asker.wall);
            self.farewells.entry(before).or_default().push_back((id, told));
            self.tell_late(before, asker.wall);
        }
        Ok(available)
    }

    pub(super) fn delete(&mut self, session: u32, id: u32, wall: DateTime) -> StatusCode {
        let status = match self.own(session, id) {
            Ok(_) => {
                self.remove(id);
                StatusCode::GOOD
            }
            Err(status) => status,
        };
        self.refuse_idle(session, wall);
        status
    }

    /// Who has no subscription waits for nothing.
    fn refuse_idle(&mut self, session: u32, wall: DateTime) {
        if self.all.values().any(|subscription| subscription.session == Some(session)) {
            return;
        }
        for waiting in self.asked.remove(&session).into_iter().flatten() {
            self.refuse(&waiting, StatusCode::BAD_NO_SUBSCRIPTION, wall);
        }
    }

    /// A session has ended; what it watched ends with it, or goes on until somebody takes it over.
    pub(super) fn session_ended(&mut self, session: u32, delete: bool) {
        self.asked.remove(&session);
        self.farewells.remove(&session);
        let own = self.all.iter_mut().filter(|(_, subscription)| subscription.session == Some(session));
        let ids: Vec<_> = own
            .map(|(id, subscription)| {
                subscription.session = None;
                *id
            })
            .collect();
        if delete {
            ids.into_iter().for_each(|id| self.remove(id));
        }
    }

    /// A session has come to another channel: nobody reads answers on the one before.
    pub(super) fn moved(&mut self, session: u32, channel: u32) {
        let asked = self.asked.get_mut(&session);
        asked.into_iter().for_each(|asked| asked.retain(|waiting| waiting.channel == channel));
    }

    /// Ends a subscription, and tells its session why.
    pub(super) fn end(&mut self, id: u32, status: StatusCode, wall: DateTime) {
        let Some(subscription) = self.all.get_mut(&id) else { return };
        let told = subscription.farewell(status, wall);
        let session = subscription.session;
        self.remove(id);
        if let Some(session) = session {
            self.farewells.entry(session).or_default().push_back((id, told));
            self.tell_late(session, wall);
        }
    }

    fn remove(&mut self, id: u32) {
        let Some(subscription) = self.all.remove(&id) else { return };
        for (item, watched) in subscription.items {
            self.unwatch(id, item, &watched.watched.node_id);
        }
    }

    fn own(&mut self, session: u32, id: u32) -> Result<&mut Subscription, StatusCode> {
        let subscription = self.all.get_mut(&id).filter(|subscription| subscription.session == Some(session));
        subscription.ok_or(StatusCode::BAD_SUBSCRIPTION_ID_INVALID)
    }

    /// A node has another value, or may have.
    pub(super) fn changed(&mut self, space: &Space, id: &NodeId, wall: DateTime) {
        for (subscription, item) in self.watchers.get(id).into_iter().flatten() {
            look(&mut self.all, space, (*subscription, *item), wall);
        }
    }

    /// Looks at what is due, ends intervals, and gives up what nobody waits for.
    pub(super) fn handle_timeout(&mut self, space: &Space, now: Instant, wall: DateTime) {
        while let Some(Reverse((due, subscription, item))) = self.looks.peek().copied().filter(|look| look.0.0 <= now) {
            self.looks.pop();
            let looked_at = self.all.get_mut(&subscription).and_then(|known| known.items.get_mut(&item));
            let Some(looked_at) = looked_at.filter(|looked_at| looked_at.due == Some(due)) else { continue };
            // Who was stopped for long does not make up for each look.
            let next = if due + looked_at.sampling <= now { now } else { due } + looked_at.sampling;
            looked_at.due = Some(next);
            self.looks.push(Reverse((next, subscription, item)));
            look(&mut self.all, space, (subscription, item), wall);
        }
        for asked in self.asked.values_mut() {
            asked.retain(|waiting| {
                let is_late = waiting.until.is_some_and(|until| until <= now);
                self.answers.extend(is_late.then(|| waiting.refused(StatusCode::BAD_TIMEOUT, wall)));
                !is_late
            });
        }
        let mut due: Vec<_> = self.all.iter().filter(|(_, subscription)| subscription.due <= now).collect();
        due.sort_by_key(|(_, subscription)| Reverse(subscription.priority));
        let due: Vec<_> = due.into_iter().map(|(id, _)| *id).collect();
        for id in due {
            let is_held = self.is_held(id);
            let Some(subscription) = self.all.get_mut(&id) else { continue };
            if is_held {
                subscription.due = now + subscription.interval;
                continue;
            }
            let asked = subscription.session.and_then(|session| self.asked.get(&session));
            match subscription.tick(now, asked.is_some_and(|asked| !asked.is_empty())) {
                Tick::Idle => {}
                Tick::Tell => self.tell(id, wall),
                Tick::End => self.end(id, StatusCode::BAD_TIMEOUT, wall),
            }
        }
    }

    /// Lets the subscriptions of a node tell nothing, not even that they live; or lets them tell again.
    pub(super) fn hold(&mut self, node: &NodeId, is_held: bool) {
        if is_held {
            self.held.insert(node.clone());
        } else {
            self.held.remove(node);
        }
    }

    fn is_held(&self, id: u32) -> bool {
        let items = self.all.get(&id).into_iter().flat_map(|subscription| subscription.items.values());
        !self.held.is_empty() && items.into_iter().any(|item| self.held.contains(&item.watched.node_id))
    }

    /// Whether somebody watches a node.
    pub(super) fn is_watched(&self, node: &NodeId) -> bool {
        let mut items = self.all.values().flat_map(|subscription| subscription.items.values());
        items.any(|item| item.watched.node_id == *node)
    }

    /// When to call [`Subscriptions::handle_timeout`].
    pub(super) fn poll_timeout(&self) -> Option<Instant> {
        let waiting = self.asked.values().flatten().filter_map(|waiting| waiting.until);
        let due = self.all.values().map(|subscription| subscription.due);
        due.chain(waiting).chain(self.looks.peek().map(|look| look.0.0)).min()
    }

    /// Answers publish requests with what a subscription has to tell, as long as there are both.
    fn tell(&mut self, id: u32, wall: DateTime) {
        while let Some(subscription) = self.all.get_mut(&id)
            && let Some(asked) = subscription.session.and_then(|session| self.asked.get_mut(&session))
            && let Some(waiting) = asked.pop_front()
        {
            let (message, has_more) = subscription.message(wall);
            let available = subscription.available();
            self.answers.push(waiting.answered(id, message, available, has_more, wall));
            if !has_more {
                return;
            }
        }
        // There is more than there are requests.
        if let Some(subscription) = self.all.get_mut(&id) {
            subscription.is_late = true;
        }
    }

    /// Tells what could not be told for want of a publish request.
    fn tell_late(&mut self, session: u32, wall: DateTime) {
        while let Some(told) = self.farewells.get_mut(&session)
            && !told.is_empty()
        {
            let Some(waiting) = self.asked.get_mut(&session).and_then(VecDeque::pop_front) else { return };
            let Some((id, message)) = told.pop_front() else { return };
            self.answers.push(waiting.answered(id, message, Vec::new(), false, wall));
        }
        let own = self.all.iter().filter(|(_, subscription)| subscription.session == Some(session));
        let mut late: Vec<_> = own.filter(|(_, subscription)| subscription.is_late).collect();
        late.sort_by_key(|(_, subscription)| Reverse(subscription.priority));
        let late: Vec<_> = late.into_iter().map(|(id, _)| *id).collect();
        late.into_iter().for_each(|id| self.tell(id, wall));
    }

    fn refuse(&mut self, waiting: &Waiting, status: StatusCode, wall: DateTime) {
        self.answers.push(waiting.refused(status, wall));
    }

    /// What is to be sent.
    pub(super) fn take_answers(&mut self) -> Vec<Answer> {
        std::mem::take(&mut self.answers)
    }
}

impl Waiting {
    fn header(&self, service_result: StatusCode, timestamp: DateTime) -> ResponseHeader {
        ResponseHeader { service_result, request_handle: self.handle, timestamp, ..ResponseHeader::default() }
    }

    fn refused(&self, status: StatusCode, wall: DateTime) -> Answer {
        let response = ServiceFault { response_header: self.header(status, wall) };
        Answer { channel: self.channel, request: self.request, response: response.into() }
    }

    fn answered(
        self,
        subscription_id: u32,
        notification_message: NotificationMessage,
        available_sequence_numbers: Vec<u32>,
        more_notifications: bool,
        wall: DateTime,
    ) -> Answer {
        let response = PublishResponse {
            response_header: self.header(StatusCode::GOOD, wall),
            subscription_id,
            available_sequence_numbers,
            more_notifications,
            notification_message,
            results: self.results,
            diagnostic_infos: Vec::new(),
        };
        Answer { channel: self.channel, request: self.request, response: Response::from(response) }
    }
}

fn look(all: &mut BTreeMap<u32, Subscription>, space: &Space, (subscription, id): (u32, u32), wall: DateTime) {
    let Some(subscription) = all.get_mut(&subscription) else { return };
    if subscription.items.get_mut(&id).is_some_and(|item| item.sample(space, wall)) {
        subscription.ready.push_back(id);
    }
}

/// Whatever the limits say, nothing is done more often.
const SHORTEST: Duration = Duration::from_millis(1);

fn most(number: u32) -> usize {
    usize::try_from(number).unwrap_or(usize::MAX)
}

/// Sets interval, lifetime and keep-alive count as they are going to be.
///
/// Source: OPC 10000-4, section 5.14.2.2.
fn revise(subscription: &mut Subscription, limits: &ServerLimits, interval: f64, (lifetime, keep_alive): (u32, u32)) {
    let (shortest, longest) = limits.publishing_interval;
    let shortest = shortest.max(SHORTEST);
    let longest = longest.max(shortest);
    let interval = match interval {
        interval if interval <= 0.0 || interval.is_nan() => shortest,
        interval => Duration::try_from_secs_f64(interval / 1000.0).unwrap_or(longest).clamp(shortest, longest),
    };
    let counts = limits.subscription_lifetime.as_millis() / interval.as_millis().max(1);
    let longest = u32::try_from(counts).unwrap_or(u32::MAX).max(3);
    let keep_alive = if keep_alive == 0 { 10 } else { keep_alive }.min(longest / 3);
    (subscription.interval, subscription.keep_alive_count) = (interval, keep_alive);
    subscription.lifetime_count = lifetime.clamp(keep_alive.saturating_mul(3), longest);
}
