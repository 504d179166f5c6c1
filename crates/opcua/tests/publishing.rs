//! What subscriptions of a server tell is whole and in order, whatever becomes of connections and sessions.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;

use engine::{Bench, CHANNEL, id, parameters, told};
use interlex_opcua::*;
use proptest::prelude::*;
use std::collections::VecDeque;
use std::time::Duration;

fn every_second(keep_alive: u32, lifetime: u32) -> CreateSubscriptionRequest {
    CreateSubscriptionRequest {
        requested_publishing_interval: 1000.0,
        requested_max_keep_alive_count: keep_alive,
        requested_lifetime_count: lifetime,
        ..CreateSubscriptionRequest::default()
    }
}

/// A bench with a subscription that watches the power.
fn watching(limits: ServerLimits, wanted: CreateSubscriptionRequest) -> (Bench, u32) {
    let mut bench = Bench::small(limits);
    let subscription = bench.subscribe(wanted).subscription_id;
    assert_eq!(bench.watch(subscription, "Power", parameters(1, 1000)).status_code, StatusCode::GOOD);
    (bench, subscription)
}

fn values(responses: &[Response]) -> Vec<f64> {
    told(responses).into_iter().map(|(_, value, _)| value).collect()
}

/// The number of each message, and how many notifications it has.
fn numbers(responses: &[Response]) -> Vec<(u32, usize)> {
    let numbers = responses.iter().map(|response| match response {
        Response::Publish(publish) => {
            let message = &publish.notification_message;
            (message.sequence_number, message.notification_data.len())
        }
        other => panic!("{other:?}"),
    });
    numbers.collect()
}

fn faults(responses: &[Response]) -> Vec<StatusCode> {
    responses.iter().map(response_status).collect()
}

fn response_status(response: &Response) -> StatusCode {
    response.header().service_result
}

#[test]
fn a_silent_subscription_tells_that_it_lives_with_the_number_that_comes_next() {
    let (mut bench, subscription) = watching(ServerLimits::default(), every_second(3, 30));
    for _ in 0..4 {
        bench.publish(&[]);
    }
    assert_eq!(numbers(&bench.pass(1000)), [(1, 1)]);
    assert_eq!(numbers(&bench.pass(2500)), []);
    assert_eq!(numbers(&bench.pass(500)), [(2, 0)]);
    bench.set("Power", 1.0);
    let told = bench.pass(1000);
    assert_eq!((numbers(&told), values(&told)), (vec![(2, 1)], vec![1.0]));
    // Nothing is told while it is switched off, and nothing lost.
    let mode = |publishing_enabled| SetPublishingModeRequest {
        publishing_enabled,
        subscription_ids: vec![subscription],
        ..SetPublishingModeRequest::default()
    };
    bench.ask(mode(false));
    bench.set("Power", 2.0);
    assert_eq!(numbers(&bench.pass(3000)), [(3, 0)]);
    bench.publish(&[]);
    bench.ask(mode(true));
    assert_eq!(values(&bench.pass(1000)), [2.0]);
}

#[test]
fn what_no_request_waits_for_is_told_as_soon_as_one_comes() {
    let (mut bench, _) = watching(ServerLimits::default(), every_second(10, 30));
    for number in 1..=5 {
        bench.set("Power", f64::from(number));
    }
    assert_eq!(bench.pass(2000), []);
    bench.publish(&[]);
    let first = bench.answers();
    assert_eq!(values(&first), [0.0, 1.0, 2.0, 3.0, 4.0, 5.0]);

    // In messages of two, as many as there are requests; each says that there is more.
    let modest = CreateSubscriptionRequest { max_notifications_per_publish: 2, ..every_second(10, 30) };
    let (mut bench, _) = watching(ServerLimits::default(), modest);
    for number in 1..=6 {
        bench.set("Power", f64::from(number));
    }
    bench.publish(&[]);
    bench.publish(&[]);
    let mut all = bench.pass(1000);
    bench.publish(&[]);
    all.extend(bench.answers());
    bench.publish(&[]);
    all.extend(bench.answers());
    assert_eq!(numbers(&all), [(1, 1), (2, 1), (3, 1), (4, 1)]);
    assert_eq!(values(&all), [0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0]);
    let more = all.iter().map(|response| matches!(response, Response::Publish(publish) if publish.more_notifications));
    assert_eq!(more.collect::<Vec<_>>(), [true, true, true, false]);
}

#[test]
fn nobody_asks_too_much_too_late_or_for_nothing() {
    let limits = ServerLimits { publish_requests: 2, ..ServerLimits::default() };
    let (mut bench, subscription) = watching(limits, every_second(10, 30));
    for _ in 0..3 {
        bench.publish(&[]);
    }
    assert_eq!(faults(&bench.answers()), [StatusCode::BAD_TOO_MANY_PUBLISH_REQUESTS]);
    bench.pass(1000);
    let mut hasty = PublishRequest::default();
    hasty.request_header.timeout_hint = 500;
    assert_eq!(bench.send(CHANNEL, hasty.into()), None);
    assert_eq!(faults(&bench.pass(600)), [StatusCode::BAD_TIMEOUT]);
    let delete =
        DeleteSubscriptionsRequest { subscription_ids: vec![subscription, 5], ..DeleteSubscriptionsRequest::default() };
    let Response::DeleteSubscriptions(deleted) = bench.ask(delete) else { panic!() };
    assert_eq!(deleted.results, [StatusCode::GOOD, StatusCode::BAD_SUBSCRIPTION_ID_INVALID]);
    assert_eq!(faults(&bench.answers()), [StatusCode::BAD_NO_SUBSCRIPTION]);
    bench.publish(&[]);
    assert_eq!(faults(&bench.answers()), [StatusCode::BAD_NO_SUBSCRIPTION]);
    bench.server.limits_mut().subscriptions = 1;
    bench.subscribe(every_second(10, 30));
    assert_eq!(bench.fails(every_second(10, 30)), StatusCode::BAD_TOO_MANY_SUBSCRIPTIONS);
}

#[test]
fn a_subscription_that_nobody_asks_for_ends_and_says_so() {
    let (mut bench, _) = watching(ServerLimits::default(), every_second(2, 6));
    assert_eq!(bench.pass(7000), []);
    bench.publish(&[]);
    let [Response::Publish(last)] = &bench.answers()[..] else { panic!() };
    let farewell = StatusChangeNotification::from_object(&last.notification_message.notification_data[0]);
    assert_eq!(farewell.unwrap().unwrap().status, StatusCode::BAD_TIMEOUT);
    bench.publish(&[]);
    assert_eq!(faults(&bench.answers()), [StatusCode::BAD_NO_SUBSCRIPTION]);
}

#[test]
fn messages_are_kept_until_they_are_acknowledged() {
    let limits = ServerLimits { kept_messages: 3, ..ServerLimits::default() };
    let (mut bench, subscription) = watching(limits, every_second(10, 300));
    for number in 0..5 {
        bench.set("Power", f64::from(number) + 0.5);
        bench.publish(&[]);
        assert_eq!(numbers(&bench.pass(1000)), [(number + 1, 1)]);
    }
    let again = |retransmit_sequence_number| RepublishRequest {
        subscription_id: subscription,
        retransmit_sequence_number,
        ..RepublishRequest::default()
    };
    assert_eq!(bench.fails(again(2)), StatusCode::BAD_MESSAGE_NOT_AVAILABLE);
    let Response::Republish(kept) = bench.ask(again(3)) else { panic!() };
    assert_eq!(kept.notification_message.sequence_number, 3);
    bench.set("Power", 9.0);
    bench.publish(&[(subscription, 4), (subscription, 1), (5, 4)]);
    let [Response::Publish(told)] = &bench.pass(1000)[..] else { panic!() };
    let unknown = [StatusCode::GOOD, StatusCode::BAD_SEQUENCE_NUMBER_UNKNOWN, StatusCode::BAD_SUBSCRIPTION_ID_INVALID];
    assert_eq!((&told.results[..], &told.available_sequence_numbers[..]), (&unknown[..], &[3, 5, 6][..]));
    assert_eq!(bench.fails(again(4)), StatusCode::BAD_MESSAGE_NOT_AVAILABLE);
}

#[test]
fn another_session_of_the_same_user_takes_a_subscription_over() {
    let (mut bench, subscription) = watching(ServerLimits::default(), every_second(10, 300));
    bench.publish(&[]);
    bench.pass(1000);
    bench.publish(&[]);
    let before = bench.token.clone();
    let other = ChannelInfo { id: 8, ..CHANNEL };
    let after = bench.session(other);
    let transfer = |send_initial_values| TransferSubscriptionsRequest {
        subscription_ids: vec![subscription, 5],
        send_initial_values,
        ..TransferSubscriptionsRequest::default()
    };
    let Response::TransferSubscriptions(taken) = bench.ask(transfer(true)) else { panic!() };
    let unknown = StatusCode::BAD_SUBSCRIPTION_ID_INVALID;
    assert_eq!((taken.results[0].status_code, taken.results[1].status_code), (StatusCode::GOOD, unknown));
    assert_eq!(taken.results[0].available_sequence_numbers, [1]);
    // Who had it is told, and may not ask for it any more.
    let [Response::Publish(last)] = &bench.answers()[..] else { panic!() };
    let farewell = StatusChangeNotification::from_object(&last.notification_message.notification_data[0]);
    assert_eq!(farewell.unwrap().unwrap().status, StatusCode::GOOD_SUBSCRIPTION_TRANSFERRED);
    (bench.token, bench.channel) = (before, CHANNEL);
    bench.publish(&[]);
    assert_eq!(faults(&bench.answers()), [StatusCode::BAD_NO_SUBSCRIPTION]);
    (bench.token, bench.channel) = (after, other);
    bench.publish(&[]);
    let told = bench.pass(1000);
    assert_eq!((numbers(&told), values(&told)), (vec![(2, 1)], vec![0.0]), "the present values, as was asked for");
}

#[test]
fn a_subscription_outlives_its_session_unless_that_says_otherwise() {
    for delete_subscriptions in [false, true] {
        let (mut bench, subscription) = watching(ServerLimits::default(), every_second(10, 300));
        let close = CloseSessionRequest { delete_subscriptions, ..CloseSessionRequest::default() };
        assert_eq!(response_status(&bench.ask(close)), StatusCode::GOOD);
        bench.pass(3000);
        bench.set("Power", 4.0);
        bench.session(CHANNEL);
        let transfer = TransferSubscriptionsRequest { subscription_ids: vec![subscription], ..Default::default() };
        let Response::TransferSubscriptions(taken) = bench.ask(transfer) else { panic!() };
        assert_eq!(taken.results[0].status_code.is_bad(), delete_subscriptions);
        if !delete_subscriptions {
            bench.publish(&[]);
            let told = [bench.answers(), bench.pass(1000)].concat();
            assert_eq!(values(&told), [0.0, 4.0], "what happened meanwhile, too");
        }
    }
}

#[test]
fn items_are_looked_at_as_often_as_was_agreed() {
    let mut bench = Bench::small(ServerLimits::default());
    let subscription = bench.subscribe(every_second(10, 300)).subscription_id;
    let wanted = MonitoringParameters { sampling_interval: 250.0, ..parameters(1, 100) };
    let created = bench.watch(subscription, "Power", wanted);
    assert_eq!(created.revised_sampling_interval.to_bits(), 250.0_f64.to_bits());
    bench.publish(&[]);
    let mut told = Vec::new();
    for number in 1..=20 {
        bench.set("Power", f64::from(number));
        told.extend(bench.pass(50));
    }
    // What it was at 0, 250, 500, 750 and 1000 ms, before it became the next at that very time.
    assert_eq!(values(&told), [0.0, 5.0, 10.0, 15.0, 20.0]);
    let mode = |monitoring_mode| SetMonitoringModeRequest {
        subscription_id: subscription,
        monitoring_mode,
        monitored_item_ids: vec![created.monitored_item_id, 77],
        ..SetMonitoringModeRequest::default()
    };
    bench.set("Power", 30.0);
    bench.pass(250);
    let Response::SetMonitoringMode(set) = bench.ask(mode(MonitoringMode::Disabled)) else { panic!() };
    assert_eq!(set.results, [StatusCode::GOOD, StatusCode::BAD_MONITORED_ITEM_ID_INVALID]);
    bench.ask(mode(MonitoringMode::Sampling));
    bench.publish(&[]);
    assert_eq!(values(&bench.pass(1000)), [], "it is looked at, and not told");
    bench.ask(mode(MonitoringMode::Reporting));
    assert_eq!(values(&bench.pass(1000)), [30.0]);
    let delete = DeleteMonitoredItemsRequest {
        subscription_id: subscription,
        monitored_item_ids: vec![created.monitored_item_id],
        ..DeleteMonitoredItemsRequest::default()
    };
    bench.ask(delete);
    bench.set("Power", 31.0);
    bench.publish(&[]);
    assert_eq!(values(&bench.pass(3000)), []);
}

#[derive(Debug, Clone)]
enum Step {
    /// The power changes so often.
    Change(u8),
    /// So many milliseconds pass.
    Pass(u16),
    /// The connection ends; answers under way are lost.
    Cut,
    /// The session ends, and another one takes the subscription over.
    End,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (1_u8..5).prop_map(Step::Change),
        6 => (1_u16..3000).prop_map(Step::Pass),
        1 => Just(Step::Cut),
        1 => Just(Step::End),
    ];
    prop::collection::vec(step, 1..60)
}

/// Our client's side of a subscription, and what it was told.
struct Client {
    bench: Bench,
    subscriber: Subscriber,
    subscription: u32,
    waiting: VecDeque<(u32, Asked)>,
    told: Vec<f64>,
    made: u32,
}

impl Client {
    fn new() -> Self {
        let (mut bench, subscription) = watching(ServerLimits::default(), every_second(5, 3000));
        let mut subscriber = Subscriber::default();
        subscriber.add(subscription, Duration::from_secs(5), Some(1), bench.now().0);
        bench.answers();
        Self { bench, subscriber, subscription, waiting: VecDeque::new(), told: Vec::new(), made: 0 }
    }

    fn ask(&mut self) {
        while let Some((asked, request, _)) = self.subscriber.poll_request(self.bench.now().0) {
            match self.bench.send(self.bench.channel, request) {
                None => self.waiting.push_back((self.bench.asked, asked)),
                Some(answer) => self.answered(asked, answer),
            }
        }
    }

    fn answered(&mut self, asked: Asked, answer: Response) {
        let answer = match answer {
            Response::Fault(fault) => Err(RequestError::Fault(fault.response_header.service_result)),
            answer => Ok(answer),
        };
        self.subscriber.handle_answer(self.bench.now().0, asked, answer);
        while let Some(news) = self.subscriber.poll_news() {
            let News::Message { subscription, sequence_number, notifications } = news else { continue };
            for notification in notifications {
                let Notification::Data(data) = notification else { continue };
                self.told.extend(data.monitored_items.into_iter().map(|item| match item.value.value {
                    Some(Variant::Scalar(Scalar::Double(number))) => number,
                    other => panic!("{other:?}"),
                }));
            }
            self.subscriber.acknowledge(subscription, sequence_number);
        }
    }

    /// Takes the answers that are there, or loses them.
    fn take(&mut self, is_lost: bool) {
        for answer in self.bench.server.take_answers() {
            let at = self.waiting.iter().position(|(request, _)| *request == answer.request).unwrap();
            let (_, asked) = self.waiting.remove(at).unwrap();
            if !is_lost {
                self.answered(asked, answer.response);
            }
        }
    }

    fn pass(&mut self, millis: u64) {
        let end = self.bench.millis + millis;
        while self.bench.millis < end {
            self.ask();
            let answers = self.bench.server.poll_timeout().map(|due| (due - self.bench.origin).as_millis());
            let due = answers.map_or(end, |due| u64::try_from(due).unwrap()).clamp(self.bench.millis, end);
            self.bench.millis = due;
            let now = self.bench.now();
            self.bench.server.handle_timeout(now);
            self.take(false);
            self.subscriber.handle_timeout(now.0);
            if due < end && self.bench.server.poll_timeout().is_none() {
                break;
            }
        }
        self.ask();
    }

    fn step(&mut self, step: &Step) {
        match step {
            Step::Change(times) => {
                for _ in 0..*times {
                    self.made += 1;
                    self.bench.set("Power", f64::from(self.made));
                }
            }
            Step::Pass(millis) => self.pass(u64::from(*millis)),
            Step::Cut | Step::End => {
                // Some are told on the connection that nobody reads any more.
                self.bench.millis += 1500;
                let now = self.bench.now();
                self.bench.server.handle_timeout(now);
                self.take(true);
                let next = ChannelInfo { id: self.bench.channel.id + 1, ..CHANNEL };
                if matches!(step, Step::End) {
                    self.bench.ask(CloseSessionRequest::default());
                    self.bench.session(next);
                    let subscription_ids = vec![self.subscription];
                    let transfer = TransferSubscriptionsRequest { subscription_ids, ..Default::default() };
                    let Response::TransferSubscriptions(taken) = self.bench.ask(transfer) else { panic!() };
                    assert_eq!(taken.results[0].status_code, StatusCode::GOOD);
                } else {
                    // The same session, over another connection: what waited on the one before is answered by nobody.
                    self.bench.channel = next;
                    self.bench.ask(ActivateSessionRequest::default());
                }
                for (_, asked) in std::mem::take(&mut self.waiting) {
                    self.subscriber.handle_answer(now.0, asked, Err(RequestError::Lost));
                }
                self.subscriber.resumed(now.0);
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn our_client_is_told_every_value_once_in_order_through_cuts_and_lost_sessions(steps in steps()) {
        let mut client = Client::new();
        steps.iter().for_each(|step| client.step(step));
        client.pass(20_000);
        let expected: Vec<_> = (0..=client.made).map(f64::from).collect();
        prop_assert_eq!(client.told, expected);
    }
}

#[test]
fn a_node_that_is_gone_is_told_to_be() {
    let (mut bench, _) = watching(ServerLimits::default(), every_second(10, 300));
    bench.publish(&[]);
    bench.pass(1000);
    bench.server.space_mut().remove(&id("Power"));
    let wall = bench.now().1;
    bench.server.changed(&id("Power"), wall);
    bench.publish(&[]);
    let [Response::Publish(told)] = &bench.pass(1000)[..] else { panic!() };
    let data = DataChangeNotification::from_object(&told.notification_message.notification_data[0]).unwrap().unwrap();
    assert_eq!(data.monitored_items[0].value.status(), StatusCode::BAD_NODE_ID_UNKNOWN);
}
