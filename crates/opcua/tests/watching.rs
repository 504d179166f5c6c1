//! What is watched comes whole and in order, or says where something may be missing, whatever becomes of sessions.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;

use engine::{Bench, CHANNEL, id};
use interlex_opcua::*;
use proptest::prelude::*;
use std::time::Duration;

const CONFIG: WatchConfig = WatchConfig {
    lifetime: Duration::from_secs(3000),
    timeout: Duration::from_secs(10),
    at_once: 1000,
    pause: Duration::from_secs(30),
};

fn item(node: &str, filter: Option<DataChangeFilter>) -> WatchedItem {
    let what = ReadValueId { node_id: id(node), attribute_id: 13, ..ReadValueId::default() };
    WatchedItem { what, sampling: Duration::ZERO, queue_size: 1000, filter }
}

fn group(items: Vec<WatchedItem>) -> WatchedGroup {
    WatchedGroup { interval: Duration::from_secs(1), keep_alive: Duration::from_secs(5), items }
}

/// A watcher with a server, and what came of it.
struct Client {
    bench: Bench,
    watcher: Watcher,
    waiting: Vec<(u32, u32)>,
    events: Vec<WatchEvent>,
}

impl Client {
    fn new(limits: ServerLimits, groups: Vec<WatchedGroup>) -> Self {
        let bench = Bench::small(limits);
        let mut watcher = Watcher::new(CONFIG, groups, Vec::new());
        watcher.activated(bench.now().0, true);
        Self { bench, watcher, waiting: Vec::new(), events: Vec::new() }
    }

    /// Sends what is to be sent; tells whether there was any.
    fn ask(&mut self) -> bool {
        let before = self.bench.asked;
        while let Some((number, request, _)) = self.watcher.poll_request(self.bench.now().0) {
            match self.bench.send(self.bench.channel, request) {
                None => self.waiting.push((self.bench.asked, number)),
                Some(answer) => self.answered(number, answer),
            }
        }
        self.listen();
        self.bench.asked > before
    }

    fn answered(&mut self, number: u32, answer: Response) {
        let answer = match answer {
            Response::Fault(fault) => Err(RequestError::Fault(fault.response_header.service_result)),
            answer => Ok(answer),
        };
        self.watcher.handle_answer(self.bench.now().0, number, answer);
        self.listen();
    }

    fn listen(&mut self) {
        while let Some(event) = self.watcher.poll_event() {
            if let WatchEvent::Values { subscription, number, .. } = &event {
                self.watcher.taken(*subscription, *number);
            }
            self.events.push(event);
        }
    }

    fn take(&mut self, is_lost: bool) {
        for answer in self.bench.server.take_answers() {
            let at = self.waiting.iter().position(|(request, _)| *request == answer.request).unwrap();
            let (_, number) = self.waiting.remove(at);
            if !is_lost {
                self.answered(number, answer.response);
            }
        }
    }

    fn pass(&mut self, millis: u64) {
        let end = self.bench.millis + millis;
        loop {
            while self.ask() {
                self.take(false);
            }
            let timeouts = self.bench.server.poll_timeout().into_iter().chain(self.watcher.poll_timeout());
            let due = timeouts.map(|due| u64::try_from((due - self.bench.origin).as_millis()).unwrap()).min();
            let Some(due) = due.filter(|due| *due <= end) else { break };
            self.bench.millis = self.bench.millis.max(due);
            let now = self.bench.now();
            self.bench.server.handle_timeout(now);
            self.watcher.handle_timeout(now.0);
            self.listen();
            self.take(false);
        }
        self.bench.millis = end;
    }

    /// The connection ends, and perhaps the session; what is under way is lost. Another one follows.
    fn cut(&mut self, ends_session: bool) {
        // Some are told on the connection that nobody reads any more.
        self.bench.millis += 1500;
        let now = self.bench.now();
        self.bench.server.handle_timeout(now);
        self.take(true);
        let channel = ChannelInfo { id: self.bench.channel.id + 1, ..CHANNEL };
        if ends_session {
            self.bench.ask(CloseSessionRequest::default());
            self.bench.session(channel);
        } else {
            self.bench.channel = channel;
            self.bench.ask(ActivateSessionRequest::default());
        }
        for (_, number) in std::mem::take(&mut self.waiting) {
            self.watcher.handle_answer(now.0, number, Err(RequestError::Lost));
        }
        self.watcher.inactive();
        self.listen();
        self.watcher.activated(now.0, ends_session);
    }

    /// The numbers that one item was told, and where something may be missing.
    fn told(&self, place: usize) -> Vec<Option<f64>> {
        let of_event = |event: &WatchEvent| match event {
            WatchEvent::Gap(0) => vec![None],
            WatchEvent::Values { values, .. } => {
                let own = values.iter().filter(|(item, _)| *item == place);
                own.map(|(_, value)| match value.value {
                    Some(Variant::Scalar(Scalar::Double(number))) => Some(number),
                    ref other => panic!("{other:?}"),
                })
                .collect()
            }
            _ => Vec::new(),
        };
        self.events.iter().flat_map(of_event).collect()
    }
}

#[derive(Debug, Clone)]
enum Step {
    Change(u8),
    Pass(u16),
    Cut {
        ends_session: bool,
    },
    /// The server ends the subscription.
    End,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        6 => (1_u8..5).prop_map(Step::Change),
        6 => (1_u16..3000).prop_map(Step::Pass),
        1 => any::<bool>().prop_map(|ends_session| Step::Cut { ends_session }),
        1 => Just(Step::End),
    ];
    prop::collection::vec(step, 1..60)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn each_value_is_told_once_in_order_or_its_absence_is_said(steps in steps(), can_transfer in any::<bool>()) {
        let mut client = Client::new(ServerLimits::default(), vec![group(vec![item("Power", None)])]);
        client.bench.server.offer("TransferSubscriptionsRequest", can_transfer);
        let (mut made, mut ends) = (0_u32, 0);
        client.pass(10);
        for step in &steps {
            match step {
                Step::Change(times) => {
                    for _ in 0..*times {
                        made += 1;
                        client.bench.set("Power", f64::from(made));
                    }
                }
                Step::Pass(millis) => client.pass(u64::from(*millis)),
                Step::Cut { ends_session } => {
                    client.cut(*ends_session);
                    ends += usize::from(*ends_session && !can_transfer);
                }
                Step::End => {
                    let subscription = client.events.iter().rev().find_map(|event| match event {
                        WatchEvent::Created { subscription, .. } => Some(*subscription),
                        _ => None,
                    });
                    let wall = client.bench.now().1;
                    client.bench.server.end_subscription(subscription.unwrap(), StatusCode::BAD_TIMEOUT, wall);
                    ends += 1;
                }
            }
        }
        client.pass(40_000);
        let told = client.told(0);
        let mut next = 0.0;
        let mut may_skip = false;
        for value in &told {
            match value {
                None => may_skip = true,
                Some(number) if may_skip => {
                    // The present value stands behind a gap, told before or not.
                    prop_assert!(*number >= next - 1.0, "{told:?}");
                    (next, may_skip) = (number + 1.0, false);
                }
                Some(number) => {
                    prop_assert_eq!(*number, next, "{:?}", told);
                    next += 1.0;
                }
            }
        }
        prop_assert_eq!(next, f64::from(made) + 1.0, "{:?}", told);
        let gaps = told.iter().filter(|value| value.is_none()).count();
        prop_assert!(gaps <= ends, "{gaps} gaps, and {ends} reasons: {told:?}");
    }
}

#[test]
fn a_server_that_lies_about_its_limits_is_asked_for_less_until_it_takes_it() {
    let many: Vec<_> = ["Power", "Speed", "Temperatures"].into_iter().cycle().take(50).collect();
    let items = many.iter().map(|node| item(node, None)).collect();
    let limits = ServerLimits { items_per_call: 7, items: 45, ..ServerLimits::default() };
    let mut client = Client::new(limits, vec![group(items)]);
    client.pass(1100);
    let agreed = client.events.iter().filter(|event| matches!(event, WatchEvent::Agreed { .. })).count();
    let refused = client.events.iter().filter_map(|event| match event {
        WatchEvent::Refused((0, item), status) => Some((*item, *status)),
        _ => None,
    });
    let refused: Vec<_> = refused.collect();
    let expected: Vec<_> = (45..50).map(|item| (item, StatusCode::BAD_TOO_MANY_MONITORED_ITEMS)).collect();
    assert_eq!((agreed, refused), (45, expected));
    let values = client.events.iter().filter_map(|event| match event {
        WatchEvent::Values { values, .. } => Some(values.len()),
        _ => None,
    });
    assert_eq!(values.sum::<usize>(), 45);
}

#[test]
fn what_cannot_be_filtered_is_watched_without_and_what_is_not_there_is_refused() {
    let filter = |deadband_type| {
        Some(DataChangeFilter { trigger: DataChangeTrigger::StatusValue, deadband_type, deadband_value: 1.0 })
    };
    // The power has no range of which to take a percentage.
    let items = vec![item("Speed", filter(2)), item("Power", filter(2)), item("Turbine", None), item("Secret", None)];
    let mut client = Client::new(ServerLimits::default(), vec![group(items)]);
    client.pass(10);
    let agreed = client.events.iter().filter_map(|event| match event {
        WatchEvent::Agreed { item, is_filtered, .. } => Some((item.1, *is_filtered)),
        _ => None,
    });
    assert_eq!(agreed.collect::<Vec<_>>(), [(0, true), (1, false)]);
    let refused = client.events.iter().filter_map(|event| match event {
        WatchEvent::Refused(item, status) => Some((item.1, *status)),
        _ => None,
    });
    let expected = [(2, StatusCode::BAD_NODE_ID_UNKNOWN), (3, StatusCode::BAD_NOT_READABLE)];
    assert_eq!(refused.collect::<Vec<_>>(), expected);
    assert!(client.events.contains(&WatchEvent::Ready(0)));
}

#[test]
fn a_server_without_room_for_a_subscription_is_asked_again_later() {
    let limits = ServerLimits { subscriptions: 1, ..ServerLimits::default() };
    let groups = vec![group(vec![item("Power", None)]), group(vec![item("Speed", None)])];
    let mut client = Client::new(limits, groups);
    client.pass(100);
    let refused = RequestError::Fault(StatusCode::BAD_TOO_MANY_SUBSCRIPTIONS);
    assert!(client.events.contains(&WatchEvent::GroupRefused(1, refused.clone())));
    client.pass(20_000);
    let times =
        |client: &Client| client.events.iter().filter(|event| matches!(event, WatchEvent::GroupRefused(1, _))).count();
    assert_eq!(times(&client), 1, "not at once");
    client.bench.server.limits_mut().subscriptions = 2;
    client.pass(20_000);
    assert_eq!(times(&client), 1);
    assert!(client.events.contains(&WatchEvent::Ready(1)));
}

#[test]
fn what_a_session_that_has_ended_refuses_is_asked_for_in_the_next_one_at_once() {
    let mut client = Client::new(ServerLimits::default(), vec![group(vec![item("Power", None)])]);
    client.pass(100);
    // Nothing is told any more; then nobody knows the session.
    client.watcher.renew(0);
    client.bench.ask(CloseSessionRequest::default());
    client.pass(100);
    let asked = client.bench.asked;
    client.pass(60_000);
    assert_eq!(client.bench.asked, asked, "nothing is asked without a session");
    client.bench.session(CHANNEL);
    client.watcher.activated(client.bench.now().0, true);
    client.waiting.clear();
    client.events.clear();
    client.pass(100);
    assert!(client.events.contains(&WatchEvent::Ready(0)), "{:?}", client.events);
}

#[test]
fn subscriptions_of_a_run_that_was_killed_are_ended() {
    let mut client = Client::new(ServerLimits::default(), vec![group(vec![item("Power", None)])]);
    client.pass(100);
    let WatchEvent::Created { subscription, .. } = client.events[0] else { panic!("{:?}", client.events) };
    client.bench.ask(CloseSessionRequest::default());
    client.bench.session(CHANNEL);
    let groups = vec![group(vec![item("Power", None)])];
    client.watcher = Watcher::new(CONFIG, groups, vec![subscription, 5]);
    client.watcher.activated(client.bench.now().0, true);
    client.waiting.clear();
    client.pass(100);
    let again = TransferSubscriptionsRequest { subscription_ids: vec![subscription], ..Default::default() };
    let Response::TransferSubscriptions(taken) = client.bench.ask(again) else { panic!() };
    assert_eq!(taken.results[0].status_code, StatusCode::BAD_SUBSCRIPTION_ID_INVALID);
}
