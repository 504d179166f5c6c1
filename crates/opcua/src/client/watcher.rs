use super::error::RequestError;
use super::subscriber::{Asked, News, Notification, Subscriber};
use crate::channel::NotSent;
use crate::service::{
    CreateMonitoredItemsRequest, CreateSubscriptionRequest, DataChangeFilter, DeleteSubscriptionsRequest,
    MonitoredItemCreateRequest, MonitoringMode, MonitoringParameters, ReadValueId, Request, Response,
    TimestampsToReturn, TransferSubscriptionsRequest,
};
use crate::structure::Structure;
use crate::types::{DataValue, ExtensionObject, StatusCode};
use std::collections::{HashMap, VecDeque};
use std::time::{Duration, Instant};

/// Has items watched by subscriptions, and keeps them watched through connections and sessions that end, without I/O.
///
/// After any call, poll [`Watcher::poll_request`], [`Watcher::poll_event`] and [`Watcher::poll_timeout`].
///
/// ```text
/// a session ─▶ create subscriptions ─▶ create items, so many at a time as the server takes ─▶ values
///   the same session again ─▶ values go on, and what was missed is asked for again
///   another session ─▶ transfer ─▶ the same; or, where the server has them no more, a gap, and all anew
/// ```
///
/// Source: OPC 10000-4, sections 5.13, 5.14 and 6.7.
#[derive(Debug)]
pub struct Watcher {
    config: WatchConfig,
    groups: Vec<Group>,
    subscriber: Subscriber,
    /// So many items are created at a time.
    at_once: usize,
    asked: HashMap<u32, Ask>,
    last_ask: u32,
    is_active: bool,
    /// Subscriptions of other sessions that nobody listens to any more, to be taken over and ended.
    orphans: Vec<u32>,
    /// Those of this session, to be ended.
    given_up: Vec<u32>,
    events: VecDeque<WatchEvent>,
}

/// How items are watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WatchConfig {
    /// A subscription goes on for so long while nobody asks.
    pub lifetime: Duration,
    /// So long an answer may take.
    pub timeout: Duration,
    /// So many items are created at a time, where the server takes as many.
    pub at_once: usize,
    /// So long after a refusal a subscription is asked for again.
    pub pause: Duration,
}

/// Items that are told in one rhythm.
#[derive(Debug, Clone, PartialEq)]
pub struct WatchedGroup {
    /// The time between two messages.
    pub interval: Duration,
    /// At least so often the server tells that there is no news.
    pub keep_alive: Duration,
    /// The items.
    pub items: Vec<WatchedItem>,
}

/// An item that is to be watched.
#[derive(Debug, Clone, PartialEq)]
pub struct WatchedItem {
    /// What.
    pub what: ReadValueId,
    /// How often it is looked at; zero for every change that the server knows of.
    pub sampling: Duration,
    /// So many values are kept between two messages.
    pub queue_size: u32,
    /// What counts as a change; any, where it is not told.
    pub filter: Option<DataChangeFilter>,
}

/// Names an item: the place of its group, and its place there.
pub type ItemPlace = (usize, usize);

/// What comes of watching.
#[derive(Debug, Clone, PartialEq)]
pub enum WatchEvent {
    /// A subscription is there; whoever is killed may find it by this number.
    Created {
        /// The group.
        group: usize,
        /// The server's number for it.
        subscription: u32,
        /// The time between two messages, as the server has it.
        interval: Duration,
    },
    /// An item is watched.
    Agreed {
        /// The item.
        item: ItemPlace,
        /// How often the server looks at it.
        sampling: Duration,
        /// So many values it keeps.
        queue_size: u32,
        /// Whether it filters, where that was wanted.
        is_filtered: bool,
    },
    /// An item is not watched, and why.
    Refused(ItemPlace, StatusCode),
    /// A group is not watched now, and why. It is asked for again.
    GroupRefused(usize, RequestError),
    /// All that the server takes of a group is watched.
    Ready(usize),
    /// Values of a group, in their order. Say [`Watcher::taken`] once they are safe.
    Values {
        /// The group.
        group: usize,
        /// The server's number for the subscription.
        subscription: u32,
        /// The number of the message in it.
        number: u32,
        /// The items by their places in the group, with their values.
        values: Vec<(usize, DataValue)>,
    },
    /// Values may be missing between those before and those after.
    Gap(usize),
    /// A group has no news, and lives.
    Alive(usize),
    /// Nothing comes from a group.
    Silent(usize),
}

#[derive(Debug)]
struct Group {
    wanted: WatchedGroup,
    stage: Stage,
    subscription: Option<u32>,
    /// Items that are still to be created, and whether with their filters.
    pending: VecDeque<(usize, bool)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// To be created, not before then.
    Absent(Option<Instant>),
    /// Asked for.
    Creating,
    /// Its items are being created.
    Filling,
    /// To be taken over from the session before.
    Elsewhere,
    /// Asked for that.
    Moving,
    Watching,
    /// Nobody wants it any more. Its place is given to no other.
    Gone,
}

#[derive(Debug)]
enum Ask {
    Told(Asked),
    Create(usize),
    Items(usize, Vec<(usize, bool)>),
    Move(usize),
    /// Takes orphans over, to end them.
    Adopt(Vec<u32>),
    /// Ends those of this session.
    End(Vec<u32>),
}

impl Watcher {
    /// Watches groups of items as soon as there is a session. Subscriptions of a run before, which nobody ended, are ended first.
    #[must_use]
    pub fn new(config: WatchConfig, groups: Vec<WatchedGroup>, orphans: Vec<u32>) -> Self {
        let group = |wanted| Group { wanted, stage: Stage::Absent(None), subscription: None, pending: VecDeque::new() };
        Self {
            config,
            groups: groups.into_iter().map(group).collect(),
            subscriber: Subscriber::default(),
            at_once: config.at_once.max(1),
            asked: HashMap::new(),
            last_ask: 0,
            is_active: false,
            orphans,
            given_up: Vec::new(),
            events: VecDeque::new(),
        }
    }

    /// Watches another group; tells its place.
    pub fn add(&mut self, wanted: WatchedGroup) -> usize {
        let stage = Stage::Absent(None);
        self.groups.push(Group { wanted, stage, subscription: None, pending: VecDeque::new() });
        self.groups.len() - 1
    }

    /// Subscriptions of a run before, which nobody listens to any more: they are taken over, and ended.
    pub fn adopt(&mut self, orphans: Vec<u32>) {
        self.orphans.extend(orphans);
    }

    /// Watches a group no more. Nothing is told of it from now on.
    pub fn remove(&mut self, place: usize) {
        let Some(group) = self.groups.get_mut(place) else { return };
        let stage = std::mem::replace(&mut group.stage, Stage::Gone);
        (group.wanted.items, group.pending) = (Vec::new(), VecDeque::new());
        // One that is on its way from another session is ended when it is here.
        if let Some(id) = group.subscription.take_if(|_| stage != Stage::Moving) {
            self.subscriber.remove(id);
            let ending = if stage == Stage::Elsewhere { &mut self.orphans } else { &mut self.given_up };
            ending.push(id);
        }
    }

    /// Watches a group by a new subscription: the one that it has tells nothing.
    pub fn renew(&mut self, place: usize) {
        if self.groups.get(place).is_some_and(|group| group.stage == Stage::Watching) {
            self.abandon(place, None);
        }
    }

    /// A session is active: a new one, or the one of before over another connection.
    pub fn activated(&mut self, now: Instant, is_new: bool) {
        self.is_active = true;
        self.asked.clear();
        self.subscriber.resumed(now);
        if is_new {
            self.orphans.append(&mut self.given_up);
        }
        for place in 0..self.groups.len() {
            match self.groups.get(place).map(|group| group.stage) {
                Some(Stage::Watching) if is_new => self.set(place, Stage::Elsewhere),
                Some(Stage::Moving) => self.set(place, Stage::Elsewhere),
                Some(Stage::Creating) => self.set(place, Stage::Absent(None)),
                // Nobody knows which of its items are there.
                Some(Stage::Filling) => self.abandon(place, None),
                _ => {}
            }
        }
    }

    /// The session is not active any more.
    pub const fn inactive(&mut self) {
        self.is_active = false;
    }

    /// The values of a message are safe: the server need not keep them.
    pub fn taken(&mut self, subscription: u32, number: u32) {
        self.subscriber.acknowledge(subscription, number);
    }

    fn set(&mut self, place: usize, stage: Stage) {
        self.groups.get_mut(place).into_iter().for_each(|group| group.stage = stage);
    }

    /// Gives a subscription up, to begin anew.
    fn abandon(&mut self, place: usize, after: Option<Instant>) {
        let Some(group) = self.groups.get_mut(place) else { return };
        group.stage = Stage::Absent(after);
        if let Some(id) = group.subscription.take() {
            self.subscriber.remove(id);
            self.given_up.push(id);
            self.events.push_back(WatchEvent::Gap(place));
        }
    }

    /// What to send next, under a number for its answer, and how long that may take.
    #[must_use]
    pub fn poll_request(&mut self, now: Instant) -> Option<(u32, Request, Duration)> {
        if !self.is_active {
            return None;
        }
        if let Some((ask, request)) = self.next_control(now) {
            return Some((self.ask(ask), request, self.config.timeout));
        }
        // A session is asked for news of what is its own.
        let is_elsewhere = |group: &Group| matches!(group.stage, Stage::Elsewhere | Stage::Moving);
        if self.groups.iter().any(is_elsewhere) {
            return None;
        }
        let (asked, request, timeout) = self.subscriber.poll_request(now)?;
        Some((self.ask(Ask::Told(asked)), request, timeout))
    }

    fn ask(&mut self, ask: Ask) -> u32 {
        self.last_ask = self.last_ask.wrapping_add(1);
        self.asked.insert(self.last_ask, ask);
        self.last_ask
    }

    fn next_control(&mut self, now: Instant) -> Option<(Ask, Request)> {
        for place in 0..self.groups.len() {
            let stage = self.groups.get(place)?.stage;
            let request = match stage {
                Stage::Absent(after) if after.is_none_or(|after| now >= after) => self.create(place),
                Stage::Elsewhere => self.take_over(place),
                Stage::Filling => self.fill(place),
                _ => None,
            };
            if request.is_some() {
                return request;
            }
        }
        self.end_orphans()
    }

    fn create(&mut self, place: usize) -> Option<(Ask, Request)> {
        let group = self.groups.get_mut(place)?;
        group.stage = Stage::Creating;
        group.pending = (0..group.wanted.items.len()).map(|item| (item, true)).collect();
        let interval = group.wanted.interval.max(Duration::from_millis(1));
        let count = |span: Duration| u32::try_from(span.as_nanos().div_ceil(interval.as_nanos())).unwrap_or(u32::MAX);
        let keep_alive = count(group.wanted.keep_alive).max(1);
        let request = CreateSubscriptionRequest {
            requested_publishing_interval: millis(interval),
            requested_lifetime_count: count(self.config.lifetime).max(keep_alive.saturating_mul(3)),
            requested_max_keep_alive_count: keep_alive,
            publishing_enabled: true,
            ..CreateSubscriptionRequest::default()
        };
        Some((Ask::Create(place), request.into()))
    }

    fn take_over(&mut self, place: usize) -> Option<(Ask, Request)> {
        let group = self.groups.get_mut(place)?;
        group.stage = Stage::Moving;
        let subscription_ids = group.subscription.into_iter().collect();
        let request = TransferSubscriptionsRequest { subscription_ids, ..TransferSubscriptionsRequest::default() };
        Some((Ask::Move(place), request.into()))
    }

    /// The next items of a group, one request at a time.
    fn fill(&mut self, place: usize) -> Option<(Ask, Request)> {
        if self.asked.values().any(|ask| matches!(ask, Ask::Items(of, _) if *of == place)) {
            return None;
        }
        let group = self.groups.get_mut(place)?;
        if group.pending.is_empty() {
            group.stage = Stage::Watching;
            self.events.push_back(WatchEvent::Ready(place));
            return None;
        }
        let chosen: Vec<_> = group.pending.drain(..self.at_once.min(group.pending.len())).collect();
        let items_to_create = chosen.iter().filter_map(|(item, with_filter)| {
            let wanted = group.wanted.items.get(*item)?;
            let filter = wanted.filter.as_ref().filter(|_| *with_filter);
            Some(MonitoredItemCreateRequest {
                item_to_monitor: wanted.what.clone(),
                monitoring_mode: MonitoringMode::Reporting,
                requested_parameters: MonitoringParameters {
                    client_handle: u32::try_from(*item).ok()?,
                    sampling_interval: millis(wanted.sampling),
                    filter: filter.map_or_else(ExtensionObject::default, Structure::to_object),
                    queue_size: wanted.queue_size,
                    discard_oldest: true,
                },
            })
        });
        let request = CreateMonitoredItemsRequest {
            subscription_id: group.subscription?,
            timestamps_to_return: TimestampsToReturn::Both,
            items_to_create: items_to_create.collect(),
            ..CreateMonitoredItemsRequest::default()
        };
        Some((Ask::Items(place, chosen), request.into()))
    }

    fn end_orphans(&mut self) -> Option<(Ask, Request)> {
        if !self.given_up.is_empty() {
            let subscription_ids = std::mem::take(&mut self.given_up);
            let ids = subscription_ids.clone();
            let request = DeleteSubscriptionsRequest { subscription_ids, ..DeleteSubscriptionsRequest::default() };
            return Some((Ask::End(ids), request.into()));
        }
        if self.orphans.is_empty() {
            return None;
        }
        let subscription_ids = std::mem::take(&mut self.orphans);
        let ids = subscription_ids.clone();
        let request = TransferSubscriptionsRequest { subscription_ids, ..TransferSubscriptionsRequest::default() };
        Some((Ask::Adopt(ids), request.into()))
    }

    /// An answer came, or none.
    pub fn handle_answer(&mut self, now: Instant, number: u32, answer: Result<Response, RequestError>) {
        let Some(ask) = self.asked.remove(&number) else { return };
        // With the next session.
        self.is_active &= !answer.as_ref().is_err_and(RequestError::is_of_session);
        match ask {
            Ask::Told(asked) => self.subscriber.handle_answer(now, asked, answer),
            Ask::Create(place) => self.created(now, place, answer),
            Ask::Items(place, items) => self.filled(now, place, items, answer),
            Ask::Move(place) => self.moved(place, answer),
            Ask::Adopt(ids) => {
                // What cannot be taken over ends by itself.
                if let Ok(Response::TransferSubscriptions(taken)) = answer {
                    let ours = ids.into_iter().zip(taken.results).filter(|(_, taken)| taken.status_code.is_good());
                    self.given_up.extend(ours.map(|(id, _)| id));
                }
            }
            Ask::End(ids) => {
                // They are of another session then.
                if answer.is_err_and(|error| error.is_of_session()) {
                    self.orphans.extend(ids);
                }
            }
        }
        self.listen();
    }

    fn created(&mut self, now: Instant, place: usize, answer: Result<Response, RequestError>) {
        match answer {
            Ok(Response::CreateSubscription(created)) => {
                let Some(group) = self.groups.get_mut(place) else { return };
                if group.stage == Stage::Gone {
                    return self.given_up.push(created.subscription_id);
                }
                let interval =
                    Duration::try_from_secs_f64(created.revised_publishing_interval / 1000.0).unwrap_or_default();
                let keep_alive = interval.saturating_mul(created.revised_max_keep_alive_count);
                (group.subscription, group.stage) = (Some(created.subscription_id), Stage::Filling);
                self.subscriber.add(created.subscription_id, keep_alive, Some(1), now);
                let subscription = created.subscription_id;
                self.events.push_back(WatchEvent::Created { group: place, subscription, interval });
            }
            // With the next session.
            Err(error) if error.is_of_session() && !self.is_gone(place) => self.set(place, Stage::Absent(None)),
            _ if self.is_gone(place) => {}
            answer => self.refused(now, place, answer),
        }
    }

    fn is_gone(&self, place: usize) -> bool {
        self.groups.get(place).is_none_or(|group| group.stage == Stage::Gone)
    }

    /// A group is not to be had now.
    fn refused(&mut self, now: Instant, place: usize, answer: Result<Response, RequestError>) {
        let error = answer.err().unwrap_or(RequestError::Fault(StatusCode::BAD_UNKNOWN_RESPONSE));
        self.events.push_back(WatchEvent::GroupRefused(place, error));
        self.abandon(place, Some(now + self.config.pause));
    }

    fn filled(
        &mut self,
        now: Instant,
        place: usize,
        items: Vec<(usize, bool)>,
        answer: Result<Response, RequestError>,
    ) {
        if self.is_gone(place) {
            return;
        }
        match answer {
            Ok(Response::CreateMonitoredItems(created)) if created.results.len() == items.len() => {
                for ((item, with_filter), result) in items.into_iter().zip(created.results) {
                    let Some(group) = self.groups.get_mut(place) else { return };
                    let has_filter = group.wanted.items.get(item).is_some_and(|item| item.filter.is_some());
                    let status = result.status_code;
                    let event = if !status.is_bad() {
                        WatchEvent::Agreed {
                            item: (place, item),
                            sampling: Duration::try_from_secs_f64(result.revised_sampling_interval / 1000.0)
                                .unwrap_or_default(),
                            queue_size: result.revised_queue_size,
                            is_filtered: has_filter && with_filter,
                        }
                    } else if has_filter && with_filter && NO_FILTER.contains(&status.code()) {
                        group.pending.push_back((item, false));
                        continue;
                    } else {
                        WatchEvent::Refused((place, item), status)
                    };
                    self.events.push_back(event);
                }
            }
            Err(error) if is_too_much(&error) => {
                if let [(item, _)] = items[..] {
                    let status = StatusCode::BAD_REQUEST_TOO_LARGE;
                    return self.events.push_back(WatchEvent::Refused((place, item), status));
                }
                // Halved as often as it takes, also where the server lies about its limits.
                self.at_once = (items.len() / 2).max(1);
                let Some(group) = self.groups.get_mut(place) else { return };
                items.into_iter().rev().for_each(|item| group.pending.push_front(item));
            }
            // Some may be there: begun anew with the next session.
            Err(error) if error.is_of_session() => {}
            answer => self.refused(now, place, answer),
        }
    }

    fn moved(&mut self, place: usize, answer: Result<Response, RequestError>) {
        let is_ours = match answer {
            Ok(Response::TransferSubscriptions(moved)) => {
                moved.results.first().is_some_and(|result| result.status_code.is_good())
            }
            Err(error) if error.is_of_session() && !self.is_gone(place) => return self.set(place, Stage::Elsewhere),
            _ => false,
        };
        if self.is_gone(place) {
            let id = self.groups.get_mut(place).and_then(|group| group.subscription.take());
            id.into_iter().for_each(|id| self.subscriber.remove(id));
            return self.given_up.extend(id.filter(|_| is_ours));
        }
        if is_ours {
            return self.set(place, Stage::Watching);
        }
        // The server has it no more, or does not give it: what it told meanwhile is not to be had from it.
        self.events.push_back(WatchEvent::Gap(place));
        let Some(group) = self.groups.get_mut(place) else { return };
        group.stage = Stage::Absent(None);
        group.subscription.take().into_iter().for_each(|id| self.subscriber.remove(id));
    }

    /// When to call [`Watcher::handle_timeout`], and to poll for requests, if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        if !self.is_active {
            return None;
        }
        let pauses = self.groups.iter().filter_map(|group| match group.stage {
            Stage::Absent(after) => after,
            _ => None,
        });
        self.subscriber.poll_timeout().into_iter().chain(pauses).min()
    }

    /// The moment of [`Watcher::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        for group in &mut self.groups {
            if matches!(group.stage, Stage::Absent(Some(after)) if now >= after) {
                group.stage = Stage::Absent(None);
            }
        }
        self.subscriber.handle_timeout(now);
        self.listen();
    }

    /// What comes of it, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<WatchEvent> {
        self.events.pop_front()
    }

    fn listen(&mut self) {
        while let Some(news) = self.subscriber.poll_news() {
            let (News::Message { subscription, .. }
            | News::Gap { subscription, .. }
            | News::Alive(subscription)
            | News::Silent(subscription)
            | News::Ended(subscription, _)) = &news;
            let subscription = *subscription;
            let Some(place) = self.groups.iter().position(|group| group.subscription == Some(subscription)) else {
                continue;
            };
            let event = match news {
                News::Message { sequence_number, notifications, .. } => {
                    let data = notifications.into_iter().filter_map(|notification| match notification {
                        Notification::Data(data) => Some(data.monitored_items),
                        Notification::Events(_) | Notification::Other(_) => None,
                    });
                    let values =
                        data.flatten().filter_map(|told| Some((usize::try_from(told.client_handle).ok()?, told.value)));
                    WatchEvent::Values { group: place, subscription, number: sequence_number, values: values.collect() }
                }
                News::Gap { .. } => WatchEvent::Gap(place),
                News::Alive(_) => WatchEvent::Alive(place),
                News::Silent(_) => WatchEvent::Silent(place),
                News::Ended(..) => {
                    if let Some(group) = self.groups.get_mut(place) {
                        (group.stage, group.subscription) = (Stage::Absent(None), None);
                    }
                    WatchEvent::Gap(place)
                }
            };
            self.events.push_back(event);
        }
    }
}

/// What a server says that does not filter as it was asked to.
const NO_FILTER: [StatusCode; 5] = [
    StatusCode::BAD_FILTER_NOT_ALLOWED,
    StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED,
    StatusCode::BAD_MONITORED_ITEM_FILTER_INVALID,
    StatusCode::BAD_DEADBAND_FILTER_INVALID,
    StatusCode::BAD_NOT_SUPPORTED,
];

/// Whether less at a time may do.
pub(super) fn is_too_much(error: &RequestError) -> bool {
    let too_much = [
        StatusCode::BAD_TOO_MANY_OPERATIONS,
        StatusCode::BAD_RESPONSE_TOO_LARGE,
        StatusCode::BAD_REQUEST_TOO_LARGE,
        StatusCode::BAD_ENCODING_LIMITS_EXCEEDED,
        StatusCode::BAD_TCP_MESSAGE_TOO_LARGE,
    ];
    match error {
        RequestError::Fault(status) => too_much.contains(&status.code()),
        RequestError::NotSent(NotSent::TooLarge(_)) => true,
        _ => false,
    }
}

fn millis(span: Duration) -> f64 {
    span.as_secs_f64() * 1000.0
}
