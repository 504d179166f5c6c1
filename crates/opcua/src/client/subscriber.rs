use super::error::RequestError;
use crate::service::{
    DataChangeNotification, EventNotificationList, NotificationMessage, PublishRequest, PublishResponse,
    RepublishRequest, Request, Response, StatusChangeNotification, SubscriptionAcknowledgement,
};
use crate::structure::Structure;
use crate::types::{ExtensionObject, StatusCode};
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::time::{Duration, Instant};

/// Keeps subscriptions telling, without I/O: asks for what they tell, puts it in order, and has back what was missed.
///
/// After any call, poll [`Subscriber::poll_request`], [`Subscriber::poll_news`] and [`Subscriber::poll_timeout`].
///
/// Source: OPC 10000-4, section 5.14.1.
#[derive(Debug)]
pub struct Subscriber {
    subscriptions: HashMap<u32, Subscription>,
    /// So many publish requests the server lets wait at a time, as far as that is known.
    limit: usize,
    /// The publish requests that wait there, with what each acknowledges.
    outstanding: HashMap<u32, Vec<SubscriptionAcknowledgement>>,
    last_publish: u32,
    /// Not before then, since the last one failed.
    publish_after: Option<Instant>,
    failures: u32,
    acknowledgements: Vec<SubscriptionAcknowledgement>,
    republishes: VecDeque<(u32, u32)>,
    news: VecDeque<News>,
}

#[derive(Debug)]
struct Subscription {
    /// Nothing from it for so long: it is silent.
    patience: Duration,
    /// The number of the message that comes next; `None` until the first one has come.
    next: Option<u32>,
    /// Messages that came before others that are missing.
    early: BTreeMap<u32, NotificationMessage>,
    /// Messages that are asked for again.
    missing: Vec<u32>,
    heard: Instant,
    is_silent: bool,
}

/// What subscriptions tell.
#[derive(Debug, Clone, PartialEq)]
pub enum News {
    /// A message, in its turn. [`Subscriber::acknowledge`] it once what it says is safe.
    Message {
        /// The subscription.
        subscription: u32,
        /// Its number.
        sequence_number: u32,
        /// What it says.
        notifications: Vec<Notification>,
    },
    /// Messages that nobody has any more: from this number, so many.
    Gap {
        /// The subscription.
        subscription: u32,
        /// The first that is missing.
        first: u32,
        /// How many.
        count: u32,
    },
    /// It lives, and has no news.
    Alive(u32),
    /// Nothing came from it in time.
    Silent(u32),
    /// The server has ended it, or knows it no more.
    Ended(u32, StatusCode),
}

/// What a message says.
#[derive(Debug, Clone, PartialEq)]
pub enum Notification {
    /// Values that changed.
    Data(DataChangeNotification),
    /// Events.
    Events(EventNotificationList),
    /// Something else, or what cannot be read.
    Other(ExtensionObject),
}

/// What answers come for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asked {
    /// What is new; with a number of our own.
    Publish(u32),
    /// A message once more.
    Republish {
        /// The subscription.
        subscription: u32,
        /// The message.
        sequence_number: u32,
    },
}

/// The least and the most publish requests at a time.
const PUBLISH: (usize, usize) = (2, 10);
/// How long to wait after a publish request that failed, at first and at the most.
const PAUSE: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(10));
/// So many messages that came early are kept, while others are asked for.
const MOST_EARLY: usize = 100;

/// The number after a number.
///
/// Source: OPC 10000-4, section 5.14.1.1: 0 is never used.
const fn after(number: u32) -> u32 {
    if number == u32::MAX { 1 } else { number + 1 }
}

/// How many steps lead from one number to another.
const fn steps(from: u32, to: u32) -> u32 {
    if to >= from { to - from } else { (u32::MAX - from) + to }
}

/// Whether one number lies behind another.
const fn is_past(next: u32, number: u32) -> bool {
    steps(next, number) > u32::MAX / 2
}

impl Default for Subscriber {
    fn default() -> Self {
        Self {
            subscriptions: HashMap::new(),
            limit: PUBLISH.1,
            outstanding: HashMap::new(),
            last_publish: 0,
            publish_after: None,
            failures: 0,
            acknowledgements: Vec::new(),
            republishes: VecDeque::new(),
            news: VecDeque::new(),
        }
    }
}

impl Subscriber {
    /// A subscription was created, or taken over: it tells at least once in `keep_alive`, and goes on with the message `next`:
    /// 1 for a new one, `None` where that is not known.
    pub fn add(&mut self, id: u32, keep_alive: Duration, next: Option<u32>, now: Instant) {
        let early = BTreeMap::new();
        // A message may take its time on the way.
        let patience = keep_alive * 2 + Duration::from_secs(1);
        let subscription = Subscription { patience, next, early, missing: Vec::new(), heard: now, is_silent: false };
        self.subscriptions.insert(id, subscription);
    }

    /// So many publish requests wait at the server at a time.
    fn wanted(&self) -> usize {
        (self.subscriptions.len() + 1).clamp(PUBLISH.0, PUBLISH.1).min(self.limit)
    }

    /// A subscription is of no interest any more.
    pub fn remove(&mut self, id: u32) {
        self.subscriptions.remove(&id);
        self.acknowledgements.retain(|acknowledged| acknowledged.subscription_id != id);
        self.republishes.retain(|(subscription, _)| *subscription != id);
    }

    /// The number of the message that comes next, to go on with after a transfer.
    #[must_use]
    pub fn next_of(&self, id: u32) -> Option<u32> {
        self.subscriptions.get(&id)?.next
    }

    /// A session is active: nothing is asked there yet. What was missing is asked for again.
    pub fn resumed(&mut self, now: Instant) {
        (self.publish_after, self.failures, self.limit) = (None, 0, PUBLISH.1);
        for (_, acknowledged) in self.outstanding.drain() {
            self.acknowledgements.extend(acknowledged);
        }
        self.republishes.clear();
        for (id, subscription) in &mut self.subscriptions {
            (subscription.heard, subscription.is_silent) = (now, false);
            self.republishes.extend(subscription.missing.iter().map(|number| (*id, *number)));
        }
    }

    /// What a message said is safe: the server need not keep it.
    pub fn acknowledge(&mut self, subscription: u32, sequence_number: u32) {
        if self.subscriptions.contains_key(&subscription) {
            let acknowledged = SubscriptionAcknowledgement { subscription_id: subscription, sequence_number };
            self.acknowledgements.push(acknowledged);
        }
    }

    /// What to send next, and how long its answer may take; `None` when nothing is to be sent now.
    #[must_use]
    pub fn poll_request(&mut self, now: Instant) -> Option<(Asked, Request, Duration)> {
        if let Some((subscription, sequence_number)) = self.republishes.pop_front() {
            let request = RepublishRequest {
                subscription_id: subscription,
                retransmit_sequence_number: sequence_number,
                ..RepublishRequest::default()
            };
            return Some((Asked::Republish { subscription, sequence_number }, request.into(), REPUBLISH));
        }
        let may_ask = self.publish_after.is_none_or(|after| now >= after);
        if self.subscriptions.is_empty() || self.outstanding.len() >= self.wanted() || !may_ask {
            return None;
        }
        let patience = self.subscriptions.values().map(|subscription| subscription.patience).max()?;
        // Those that wait at the server wait in turn.
        let timeout = patience * u32::try_from(self.wanted() + 1).unwrap_or(u32::MAX);
        let subscription_acknowledgements = std::mem::take(&mut self.acknowledgements);
        self.last_publish = self.last_publish.wrapping_add(1);
        self.outstanding.insert(self.last_publish, subscription_acknowledgements.clone());
        let request = PublishRequest { subscription_acknowledgements, ..PublishRequest::default() };
        Some((Asked::Publish(self.last_publish), request.into(), timeout))
    }

    /// When to call [`Subscriber::handle_timeout`], and to poll for requests, if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let alive = self.subscriptions.values().filter(|subscription| !subscription.is_silent);
        let silent = alive.map(|subscription| subscription.heard + subscription.patience);
        silent.chain(self.publish_after).min()
    }

    /// The moment of [`Subscriber::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        if self.publish_after.is_some_and(|after| now >= after) {
            self.publish_after = None;
        }
        for (id, subscription) in &mut self.subscriptions {
            if !subscription.is_silent && now >= subscription.heard + subscription.patience {
                subscription.is_silent = true;
                self.news.push_back(News::Silent(*id));
            }
        }
    }

    /// What was told, the oldest first, until `None`.
    #[must_use]
    pub fn poll_news(&mut self) -> Option<News> {
        self.news.pop_front()
    }

    /// An answer came, or none.
    pub fn handle_answer(&mut self, now: Instant, asked: Asked, answer: Result<Response, RequestError>) {
        match (asked, answer) {
            (Asked::Publish(number), answer) => {
                let Some(acknowledged) = self.outstanding.remove(&number) else { return };
                match answer {
                    Ok(Response::Publish(response)) => return self.published(now, response),
                    Err(RequestError::Fault(status)) => self.publish_failed(now, Some(status.code())),
                    Ok(_) | Err(_) => self.publish_failed(now, None),
                }
                // The server may not have taken it.
                self.acknowledgements.extend(acknowledged);
                let subscriptions = &self.subscriptions;
                self.acknowledgements.retain(|one| subscriptions.contains_key(&one.subscription_id));
            }
            (Asked::Republish { subscription, sequence_number }, answer) => match answer {
                Ok(Response::Republish(response)) => {
                    self.republished(now, subscription, sequence_number, Some(response.notification_message));
                }
                Err(RequestError::Fault(status)) => match status.code() {
                    StatusCode::BAD_SUBSCRIPTION_ID_INVALID => self.ended(subscription, status),
                    StatusCode::BAD_MESSAGE_NOT_AVAILABLE | StatusCode::BAD_SERVICE_UNSUPPORTED => {
                        self.republished(now, subscription, sequence_number, None);
                    }
                    // Something about the session: it is asked for again with the next one.
                    _ => {}
                },
                Err(RequestError::Timeout) => self.republishes.push_back((subscription, sequence_number)),
                // It is asked for again with the next session.
                Err(RequestError::Lost | RequestError::NotSent(_)) => {}
                Ok(_) | Err(RequestError::Aborted(_) | RequestError::Unreadable(_)) => {
                    self.republished(now, subscription, sequence_number, None);
                }
            },
        }
    }

    fn publish_failed(&mut self, now: Instant, status: Option<StatusCode>) {
        match status {
            Some(StatusCode::BAD_TOO_MANY_PUBLISH_REQUESTS) => self.limit = self.outstanding.len().max(1),
            Some(status @ StatusCode::BAD_NO_SUBSCRIPTION) => {
                let all: Vec<_> = self.subscriptions.keys().copied().collect();
                all.into_iter().for_each(|id| self.ended(id, status));
            }
            _ => {}
        }
        self.failures = (self.failures + 1).min(8);
        let pause = (PAUSE.0 * 2_u32.pow(self.failures - 1)).min(PAUSE.1);
        self.publish_after = Some(now + pause);
    }

    fn ended(&mut self, id: u32, status: StatusCode) {
        if self.subscriptions.contains_key(&id) {
            self.remove(id);
            self.news.push_back(News::Ended(id, status));
        }
    }

    fn published(&mut self, now: Instant, response: PublishResponse) {
        self.failures = 0;
        let (id, message) = (response.subscription_id, response.notification_message);
        let Some(subscription) = self.subscriptions.get_mut(&id) else { return };
        (subscription.heard, subscription.is_silent) = (now, false);
        let (number, is_keep_alive) = (message.sequence_number, message.notification_data.is_empty());
        let next = *subscription.next.get_or_insert(number);
        if is_past(next, number) {
            // It came before.
            return;
        }
        let distance = steps(next, number);
        if distance > MOST_MISSING {
            // So many are not kept by any server.
            subscription.missing.clear();
            subscription.early.clear();
            subscription.next = Some(number);
            self.republishes.retain(|(of, _)| *of != id);
            self.news.push_back(News::Gap { subscription: id, first: next, count: distance });
        } else {
            let between = std::iter::successors(Some(next), |number| Some(after(*number)));
            for missing in between.take_while(|missing| *missing != number) {
                if !subscription.early.contains_key(&missing) && !subscription.missing.contains(&missing) {
                    subscription.missing.push(missing);
                    self.republishes.push_back((id, missing));
                }
            }
        }
        if is_keep_alive {
            self.news.push_back(News::Alive(id));
        } else if subscription.early.len() < MOST_EARLY {
            subscription.missing.retain(|missing| *missing != number);
            subscription.early.insert(number, message);
        } else if !subscription.missing.contains(&number) {
            // The server keeps it until it is acknowledged.
            subscription.missing.push(number);
            self.republishes.push_back((id, number));
        }
        self.deliver(id);
    }

    fn republished(&mut self, now: Instant, id: u32, number: u32, message: Option<NotificationMessage>) {
        let Some(subscription) = self.subscriptions.get_mut(&id) else { return };
        if !subscription.missing.contains(&number) {
            return;
        }
        subscription.missing.retain(|missing| *missing != number);
        match message.filter(|message| message.sequence_number == number) {
            Some(message) => {
                subscription.heard = now;
                subscription.early.insert(number, message);
            }
            None => self.give_up_one(id, number),
        }
        self.deliver(id);
    }

    /// A message is not to be had any more. It stands empty in its turn.
    fn give_up_one(&mut self, id: u32, number: u32) {
        if let Some(subscription) = self.subscriptions.get_mut(&id) {
            let empty = NotificationMessage { sequence_number: 0, ..NotificationMessage::default() };
            subscription.early.insert(number, empty);
        }
    }

    /// Hands on what is next, as far as it is there.
    fn deliver(&mut self, id: u32) {
        while let Some(subscription) = self.subscriptions.get_mut(&id)
            && let Some(next) = subscription.next
            && let Some(message) = subscription.early.remove(&next)
        {
            subscription.next = Some(after(next));
            if message.sequence_number == 0 {
                self.news.push_back(News::Gap { subscription: id, first: next, count: 1 });
                continue;
            }
            let mut ended = None;
            let notifications = message.notification_data.into_iter().map(|object| {
                if let Some(Ok(change)) = StatusChangeNotification::from_object(&object) {
                    ended = Some(change.status);
                }
                match (DataChangeNotification::from_object(&object), EventNotificationList::from_object(&object)) {
                    (Some(Ok(data)), _) => Notification::Data(data),
                    (_, Some(Ok(events))) => Notification::Events(events),
                    _ => Notification::Other(object),
                }
            });
            let notifications = notifications.collect();
            self.news.push_back(News::Message { subscription: id, sequence_number: next, notifications });
            if let Some(status) = ended.filter(|status| status.is_bad()) {
                self.ended(id, status);
            }
        }
    }
}

/// How long an answer to a republish request may take.
const REPUBLISH: Duration = Duration::from_secs(10);
/// So many messages are asked for again at a time.
const MOST_MISSING: u32 = 1000;
