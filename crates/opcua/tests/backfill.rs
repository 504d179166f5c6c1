//! What was missed is read back from history, each value once and in order, as far as the server has it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;

use engine::{Bench, CHANNEL, good, id, wall};
use interlex_opcua::*;
use proptest::prelude::*;
use std::time::Duration;

const CONFIG: BackfillConfig = BackfillConfig {
    values: 5,
    at_once: 10,
    timeout: Duration::from_secs(10),
    pause: Duration::from_secs(5),
    tries: 3,
};

struct Reader {
    bench: Bench,
    backfill: Backfill,
    values: Vec<DataValue>,
    ends: Vec<BackfillEvent>,
}

fn gap(node: &str, before: Vec<DataValue>, after: DataValue) -> MissedValues {
    let from = before[0].source_time.unwrap();
    MissedValues { item: (0, 0), node: id(node), index_range: None, before, from, after }
}

impl Reader {
    fn new(limits: ServerLimits) -> Self {
        let mut backfill = Backfill::new(CONFIG);
        backfill.activated();
        Self { bench: Bench::small(limits), backfill, values: Vec::new(), ends: Vec::new() }
    }

    /// Sends what is to be sent, of which so many requests are carried out before the session ends.
    fn run(&mut self, mut until_cut: Option<u32>) {
        loop {
            while let Some((number, request, _)) = self.backfill.poll_request(self.bench.now().0) {
                let answer = self.bench.ask(request);
                let is_cut = until_cut == Some(0);
                let answer = match answer {
                    _ if is_cut => Err(RequestError::Lost),
                    Response::Fault(fault) => Err(RequestError::Fault(fault.response_header.service_result)),
                    answer => Ok(answer),
                };
                until_cut = until_cut.and_then(|left| left.checked_sub(1));
                self.backfill.handle_answer(self.bench.now().0, number, answer);
                if is_cut {
                    self.bench.ask(CloseSessionRequest::default());
                    self.bench.session(CHANNEL);
                    self.backfill.inactive();
                    self.backfill.activated();
                }
                self.listen();
            }
            self.listen();
            let Some(due) = self.backfill.poll_timeout() else { return };
            self.bench.millis = u64::try_from((due - self.bench.origin).as_millis()).unwrap();
        }
    }

    fn listen(&mut self) {
        while let Some(event) = self.backfill.poll_event() {
            match event {
                BackfillEvent::Values(_, values) => self.values.extend(values),
                end => self.ends.push(end),
            }
        }
    }
}

fn plain(value: &DataValue) -> DataValue {
    DataValue { server_time: None, ..value.clone() }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn each_value_of_a_gap_is_read_once_in_order_through_pieces_cuts_and_a_late_historian(
        // Steps of time between values; zero puts several at one time.
        steps in prop::collection::vec(0_u64..3, 3..60),
        place in 0_usize..20,
        until_cut in prop::option::of(0_u32..6),
        lag in prop::option::of(1_u64..15),
    ) {
        let mut reader = Reader::new(ServerLimits { values_per_history_read: 4, ..ServerLimits::default() });
        let (mut all, mut millis) = (Vec::new(), 10);
        for (number, step) in (0_u32..).zip(&steps) {
            millis += step * 10;
            reader.bench.millis = millis;
            reader.bench.set("Power", f64::from(number));
            all.push(good(f64::from(number), millis));
        }
        // What was told before: some value, and those of the same time that came before it.
        let last = place % (all.len() - 1);
        let before: Vec<_> = all[..=last].iter().filter(|value| value.source_time == all[last].source_time).cloned().collect();
        let after = all.last().unwrap().clone();
        reader.bench.server.set_history_lag(Duration::from_secs(lag.unwrap_or(0)));
        reader.backfill.add(gap("Power", before, after.clone()));
        reader.run(until_cut);
        // What stands at the very time of the end may be told live or not at all.
        let is_between = |value: &&DataValue| value.source_time >= all[last].source_time;
        let expected: Vec<_> = all[last + 1..all.len() - 1].iter().filter(is_between).cloned().collect();
        let told: Vec<_> = reader.values.iter().map(plain).collect();
        if after.source_time > all[last].source_time {
            prop_assert_eq!(told, expected);
        }
        prop_assert_eq!(&reader.ends, &[BackfillEvent::Filled((0, 0))]);
        prop_assert!(reader.backfill.is_empty());
    }
}

#[test]
fn what_is_not_to_be_had_is_said_and_asked_for_no_more() {
    let mut reader = Reader::new(ServerLimits::default());
    reader.backfill.add(gap("Speed", vec![good(1.0, 0)], good(2.0, 1000)));
    reader.backfill.add(gap("Turbine", vec![good(1.0, 0)], good(2.0, 1000)));
    // This one has a history that never comes to what was told live.
    reader.bench.set("Power", 1.0);
    reader.backfill.add(gap("Power", vec![good(1.0, 0)], good(2.0, 1000)));
    reader.run(None);
    let statuses = reader.ends.iter().map(|end| match end {
        BackfillEvent::Missing(_, status, _) => *status,
        other => panic!("{other:?}"),
    });
    let expected =
        [StatusCode::BAD_HISTORY_OPERATION_UNSUPPORTED, StatusCode::BAD_NODE_ID_UNKNOWN, StatusCode::GOOD_NO_DATA];
    assert_eq!(statuses.collect::<Vec<_>>(), expected);
    assert_eq!((reader.values.len(), reader.bench.millis), (0, 15_000), "three times, with a pause before each");

    let mut reader = Reader::new(ServerLimits::default());
    reader.bench.server.offer("HistoryReadRequest", false);
    let missed = gap("Power", vec![good(1.0, 0)], good(2.0, 1000));
    let span = (missed.from, missed.after.time());
    reader.backfill.add(missed);
    reader.run(None);
    assert_eq!(reader.ends, [BackfillEvent::Missing((0, 0), StatusCode::BAD_SERVICE_UNSUPPORTED, span)]);
}

#[test]
fn where_nothing_happened_nothing_is_asked() {
    let mut reader = Reader::new(ServerLimits::default());
    let value = good(1.0, 500);
    reader.backfill.add(gap("Power", vec![value.clone()], value));
    assert_eq!(reader.backfill.poll_request(reader.bench.now().0), None);
    reader.listen();
    assert_eq!(reader.ends, [BackfillEvent::Filled((0, 0))]);
}

#[test]
fn many_items_are_read_together_and_fewer_where_the_server_takes_fewer() {
    let mut reader = Reader::new(ServerLimits { nodes_per_history_read: 3, ..ServerLimits::default() });
    for number in 0..20_u32 {
        reader.bench.millis = u64::from(number) * 10;
        reader.bench.set("Power", f64::from(number));
    }
    for item in 0..10 {
        let missed = MissedValues { item: (0, item), ..gap("Power", vec![good(0.0, 0)], good(19.0, 190)) };
        reader.backfill.add(missed);
    }
    reader.run(None);
    assert_eq!((reader.values.len(), reader.ends.len()), (180, 10));
    assert!(reader.ends.iter().all(|end| matches!(end, BackfillEvent::Filled(_))), "{:?}", reader.ends);
    assert!(reader.values.iter().all(|value| value.source_time < Some(wall(190))));
}
