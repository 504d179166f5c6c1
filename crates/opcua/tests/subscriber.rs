//! What subscriptions tell comes in order, each once, and what cannot be had back is said.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_opcua::{
    Asked, DataChangeNotification, DataValue, MonitoredItemNotification, News, Notification, NotificationMessage,
    PublishResponse, RepublishResponse, Request, RequestError, Response, StatusChangeNotification, StatusCode,
    Structure, Subscriber, Variant,
};
use proptest::prelude::*;
use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

const ID: u32 = 77;
const KEEP_ALIVE: Duration = Duration::from_secs(5);

/// A message whose value is its number in the order in which things happened.
fn message(sequence_number: u32, value: u32) -> NotificationMessage {
    let value = DataValue { value: Some(Variant::from(value)), ..DataValue::default() };
    let item = MonitoredItemNotification { client_handle: 1, value };
    let data = DataChangeNotification { monitored_items: vec![item], diagnostic_infos: Vec::new() };
    NotificationMessage { sequence_number, notification_data: vec![data.to_object()], ..NotificationMessage::default() }
}

/// A server with one subscription, and the way between.
struct Server {
    /// How many messages it made.
    made: u32,
    /// The number of its first message.
    first: u32,
    /// What is not acknowledged, the oldest first, of which it keeps so many.
    kept: BTreeMap<u32, u32>,
    most: usize,
    waiting: VecDeque<Asked>,
    /// Answers on their way.
    under_way: Vec<(Asked, Result<Response, RequestError>)>,
}

impl Server {
    fn number(&self, made: u32) -> u32 {
        let number = u64::from(self.first) + u64::from(made);
        u32::try_from(if number > u64::from(u32::MAX) { number - u64::from(u32::MAX) } else { number }).unwrap()
    }

    fn answer(&mut self, message: NotificationMessage) -> bool {
        let Some(asked) = self.waiting.pop_front() else { return false };
        let response =
            PublishResponse { subscription_id: ID, notification_message: message, ..PublishResponse::default() };
        self.under_way.push((asked, Ok(response.into())));
        true
    }

    /// Something happens; it is told as soon as a request waits.
    fn tell(&mut self) {
        if self.waiting.is_empty() {
            return;
        }
        let (number, value) = (self.number(self.made), self.made);
        self.kept.insert(value, number);
        self.made += 1;
        while self.kept.len() > self.most {
            self.kept.pop_first();
        }
        assert!(self.answer(message(number, value)));
    }

    fn take(&mut self, asked: Asked, request: Request) {
        match request {
            Request::Publish(publish) => {
                for acknowledged in publish.subscription_acknowledgements {
                    self.kept.retain(|_, number| *number != acknowledged.sequence_number);
                }
                self.waiting.push_back(asked);
            }
            Request::Republish(wanted) => {
                let number = wanted.retransmit_sequence_number;
                let found = self.kept.iter().find(|(_, kept)| **kept == number).map(|(value, _)| *value);
                let answer = match found {
                    Some(value) => {
                        let notification_message = message(number, value);
                        Ok(RepublishResponse { notification_message, ..RepublishResponse::default() }.into())
                    }
                    None => Err(RequestError::Fault(StatusCode::BAD_MESSAGE_NOT_AVAILABLE)),
                };
                self.under_way.push((asked, answer));
            }
            other => panic!("{other:?}"),
        }
    }
}

#[derive(Debug, Clone)]
enum Step {
    Tell,
    KeepAlive,
    /// An answer arrives: the one at this place of those under way.
    Arrive(usize),
    /// The client sends what it has to.
    Send,
    /// The connection breaks: whatever is under way is lost, requests too.
    Break,
    /// What was told is safe now.
    Acknowledge,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => Just(Step::Tell),
        1 => Just(Step::KeepAlive),
        6 => (0_usize..4).prop_map(Step::Arrive),
        5 => Just(Step::Send),
        1 => Just(Step::Break),
        2 => Just(Step::Acknowledge),
    ];
    prop::collection::vec(step, 1..200)
}

struct Run {
    subscriber: Subscriber,
    server: Server,
    now: Instant,
    /// What was told: values, and the numbers of gaps.
    told: Vec<Result<u32, (u32, u32)>>,
    safe: VecDeque<u32>,
}

impl Run {
    fn new(first: u32, most: usize) -> Self {
        let (mut subscriber, now) = (Subscriber::default(), start());
        subscriber.add(ID, KEEP_ALIVE, Some(first), now);
        let (waiting, under_way) = (VecDeque::new(), Vec::new());
        let server = Server { made: 0, first, kept: BTreeMap::new(), most, waiting, under_way };
        Self { subscriber, server, now, told: Vec::new(), safe: VecDeque::new() }
    }

    fn send(&mut self) {
        while let Some((asked, request, timeout)) = self.subscriber.poll_request(self.now) {
            assert!(timeout >= KEEP_ALIVE, "longer than the server may be silent");
            self.server.take(asked, request);
        }
    }

    fn arrive(&mut self, place: usize) {
        if self.server.under_way.is_empty() {
            return;
        }
        let place = place % self.server.under_way.len();
        let (asked, answer) = self.server.under_way.remove(place);
        self.subscriber.handle_answer(self.now, asked, answer);
        self.listen();
    }

    fn listen(&mut self) {
        while let Some(news) = self.subscriber.poll_news() {
            match news {
                News::Message { sequence_number, notifications, .. } => {
                    let [Notification::Data(data)] = notifications.as_slice() else { panic!("{notifications:?}") };
                    let Some(Variant::Scalar(value)) = &data.monitored_items[0].value.value else { panic!() };
                    let interlex_opcua::Scalar::UInt32(value) = value else { panic!() };
                    self.told.push(Ok(*value));
                    self.safe.push_back(sequence_number);
                }
                News::Gap { first, count, .. } => self.told.push(Err((first, count))),
                News::Alive(_) | News::Silent(_) => {}
                News::Ended(..) => panic!("{news:?}"),
            }
        }
    }

    fn step(&mut self, step: &Step) {
        match step {
            Step::Tell => self.server.tell(),
            Step::KeepAlive => {
                let sequence_number = self.server.number(self.server.made);
                self.server.answer(NotificationMessage { sequence_number, ..NotificationMessage::default() });
            }
            Step::Arrive(place) => self.arrive(*place),
            Step::Send => self.send(),
            Step::Break => {
                let (waiting, under_way) =
                    (std::mem::take(&mut self.server.waiting), std::mem::take(&mut self.server.under_way));
                let all = waiting.into_iter().chain(under_way.into_iter().map(|(asked, _)| asked));
                for asked in all {
                    self.subscriber.handle_answer(self.now, asked, Err(RequestError::Lost));
                }
                self.subscriber.resumed(self.now);
            }
            Step::Acknowledge => {
                if let Some(number) = self.safe.pop_front() {
                    self.subscriber.acknowledge(ID, number);
                }
            }
        }
    }

    /// Nothing goes wrong any more, and the server tells that it lives.
    fn settle(&mut self) {
        self.now += Duration::from_secs(60);
        self.subscriber.handle_timeout(self.now);
        for _ in 0..3 {
            self.send();
            self.step(&Step::KeepAlive);
            while !self.server.under_way.is_empty() {
                self.arrive(0);
                self.send();
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn whatever_is_lost_or_overtakes_on_the_way_each_message_is_told_once_in_order_or_is_a_gap(
        steps in steps(), most in 1_usize..30, wraps in any::<bool>(),
    ) {
        let first = if wraps { u32::MAX - 10 } else { 1 };
        let mut run = Run::new(first, most);
        run.send();
        steps.iter().for_each(|step| run.step(step));
        run.settle();
        let mut next = 0;
        for told in &run.told {
            match told {
                Ok(value) => {
                    prop_assert_eq!(*value, next);
                    next += 1;
                }
                Err((first, count)) => {
                    prop_assert_eq!(*first, run.server.number(next));
                    next += count;
                }
            }
        }
        prop_assert_eq!(next, run.server.made, "all of it was told");
    }
}

#[test]
fn what_a_server_keeps_is_had_back_and_what_it_does_not_is_a_gap() {
    let mut run = Run::new(1, 3);
    run.send();
    run.step(&Step::Tell);
    run.step(&Step::Tell);
    // The first answer is lost with its connection, and had back.
    run.step(&Step::Break);
    run.settle();
    assert_eq!(run.told, [Ok(0), Ok(1)]);
    // Nothing was acknowledged: nobody said that it is safe.
    assert_eq!(run.server.kept.len(), 2);
    for _ in 0..5 {
        run.send();
        run.step(&Step::Tell);
        run.server.under_way.clear();
        run.step(&Step::Break);
    }
    run.settle();
    assert_eq!(run.told[2..], [Err((3, 1)), Err((4, 1)), Ok(4), Ok(5), Ok(6)]);
}

#[test]
fn a_server_that_is_asked_too_much_is_asked_less_and_nothing_is_asked_again_at_once() {
    let (mut subscriber, now) = (Subscriber::default(), start());
    for id in 1..=4 {
        subscriber.add(id, KEEP_ALIVE, Some(1), now);
    }
    let mut asked: Vec<_> = std::iter::from_fn(|| subscriber.poll_request(now)).map(|(asked, ..)| asked).collect();
    assert_eq!(asked.len(), 5, "one more than there are subscriptions");
    let refused = || Err(RequestError::Fault(StatusCode::BAD_TOO_MANY_PUBLISH_REQUESTS));
    subscriber.handle_answer(now, asked.pop().unwrap(), refused());
    subscriber.handle_answer(now, asked.pop().unwrap(), refused());
    let keep_alive = PublishResponse { subscription_id: 1, ..PublishResponse::default() };
    subscriber.handle_answer(now, asked.pop().unwrap(), Ok(keep_alive.into()));
    assert_eq!(subscriber.poll_request(now), None, "not at once");
    let later = now + Duration::from_secs(2);
    subscriber.handle_timeout(later);
    let again: Vec<_> = std::iter::from_fn(|| subscriber.poll_request(later)).collect();
    assert_eq!(again.len(), 1, "so many as the server takes");
}

#[test]
fn silence_and_ends_are_told() {
    let (mut subscriber, now) = (Subscriber::default(), start());
    subscriber.add(ID, KEEP_ALIVE, Some(1), now);
    let (asked, ..) = subscriber.poll_request(now).unwrap();
    let at = subscriber.poll_timeout().unwrap();
    assert_eq!(at, now + Duration::from_secs(11));
    subscriber.handle_timeout(at);
    assert_eq!(subscriber.poll_news(), Some(News::Silent(ID)));
    subscriber.handle_timeout(at + Duration::from_secs(60));
    assert_eq!(subscriber.poll_news(), None, "once");
    let change = StatusChangeNotification { status: StatusCode::BAD_TIMEOUT, ..StatusChangeNotification::default() };
    let notification_message = NotificationMessage {
        sequence_number: 1,
        notification_data: vec![change.to_object()],
        ..NotificationMessage::default()
    };
    let response = PublishResponse { subscription_id: ID, notification_message, ..PublishResponse::default() };
    subscriber.handle_answer(at, asked, Ok(response.into()));
    assert!(matches!(subscriber.poll_news(), Some(News::Message { .. })));
    assert_eq!(subscriber.poll_news(), Some(News::Ended(ID, StatusCode::BAD_TIMEOUT)));
    assert_eq!(subscriber.poll_request(at), None);
    subscriber.add(ID, KEEP_ALIVE, Some(1), at);
    let (asked, ..) = subscriber.poll_request(at).unwrap();
    subscriber.handle_answer(at, asked, Err(RequestError::Fault(StatusCode::BAD_NO_SUBSCRIPTION)));
    assert_eq!(subscriber.poll_news(), Some(News::Ended(ID, StatusCode::BAD_NO_SUBSCRIPTION)));
}
