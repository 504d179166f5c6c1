use super::*;
use crate::{Shaping, Value};
use std::time::Duration;

const POINT: PointIndex = PointIndex(4);
const MS: Duration = Duration::from_millis(1);

struct Bench {
    latest: Arc<LatestTable>,
    recent: Arc<RecentValues>,
    pipeline: Pipeline,
    plan: PointPlan,
    start: Instant,
}

impl Bench {
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn new(report: &str, min_interval: Option<u64>) -> Self {
        let (latest, recent) = (Arc::new(LatestTable::new(5)), Arc::new(RecentValues::default()));
        recent.grow(5);
        let policy = ReportPolicy {
            report: report.parse().unwrap(),
            deadband: 0.5,
            min_interval: min_interval.map(Duration::from_millis),
            slack: 100 * MS,
        };
        let plan = PointPlan {
            shaping: Shaping::linear(0.1, 0.0).into(),
            low: Some(0.0),
            high: Some(100.0),
            policy,
            stale_after: Some(5000 * MS),
        };
        let pipeline = Pipeline::new(Arc::clone(&latest), Arc::clone(&recent), vec![(POINT, plan.clone())]);
        Self { latest, recent, pipeline, plan, start: Instant::now() }
    }

    /// So many milliseconds after the start, by both clocks.
    fn at(&self, millis: u64) -> Moment {
        let wall = Timestamp::from_millis(i64::try_from(millis).unwrap());
        Moment { wall, instant: self.start + Duration::from_millis(millis) }
    }

    fn take(&mut self, batch: &[RawSample], now: Moment) -> Vec<String> {
        let mut reported = Vec::new();
        self.pipeline.process(batch, now, &mut reported);
        told(&reported)
    }

    /// Lets time pass up to a moment, and tells what it made due.
    fn wait(&mut self, until: u64) -> Vec<String> {
        let mut reported = Vec::new();
        while let Some(at) = self.pipeline.deadline().filter(|at| *at <= self.at(until).instant) {
            let millis = u64::try_from((at - self.start).as_millis()).unwrap();
            self.pipeline.handle_deadline(self.at(millis), &mut reported);
        }
        told(&reported)
    }
}

/// Each as `value quality @source-time`.
fn told(reported: &[Sample]) -> Vec<String> {
    let words = |sample: &Sample| {
        let value = sample.value.as_ref().map_or("-".to_owned(), ToString::to_string);
        format!("{value} {} @{}", sample.quality, sample.source_time.as_millis())
    };
    reported.iter().map(words).collect()
}

fn read(raw: i64) -> RawSample {
    RawSample::read(POINT, Value::Int(raw))
}

fn own(raw: i64, at: i64, kind: SampleKind) -> RawSample {
    RawSample { source_time: Some(Timestamp::from_millis(at)), kind, ..read(raw) }
}

#[test]
fn a_batch_is_shaped_judged_stored_and_filtered() {
    let mut bench = Bench::new("change", None);
    let doubtful = RawSample { quality: Quality::Uncertain(Reason::OpcUa(0x408F_0000)), ..read(500) };
    let kept = RawSample { quality: Quality::Bad(Reason::Dnp3 { flags: 4, group: 1 }), ..read(510) };
    let steps = [
        (read(500), Some("50 good @0")),
        (read(503), None),
        (read(1200), Some("120 uncertain: out of range @2")),
        (RawSample::failed(POINT, Reason::Timeout), Some("- bad: timeout @3")),
        (RawSample::failed(POINT, Reason::Timeout), None),
        (RawSample::read(POINT, Value::Float32(f32::NAN)), Some("- bad: not a number @5")),
        (RawSample::read(POINT, Value::Float32(f32::NEG_INFINITY)), Some("- bad: infinite @6")),
        (doubtful, Some("50 uncertain: status 408F0000 @7")),
        (kept, Some("51 bad: flags 04 @8")),
    ];
    for (number, (sample, expected)) in (0_u64..).zip(steps) {
        let now = bench.at(number);
        let told = bench.take(&[sample], now);
        assert_eq!(told.first().map(String::as_str), expected, "step {number}");
        assert_eq!(bench.latest.read(POINT).unwrap().gateway_time, now.wall);
    }
}

#[test]
fn no_two_values_of_a_point_have_one_time_that_the_gateway_gave() {
    let mut bench = Bench::new("change", None);
    let mut told = |raw, source_time: Option<i64>, now| {
        let sample = RawSample { source_time: source_time.map(Timestamp::from_millis), ..read(raw) };
        let now = bench.at(now);
        bench.take(&[sample], now).remove(0).rsplit('@').next().unwrap().parse::<i64>().unwrap()
    };
    assert_eq!([told(10, None, 5000), told(20, None, 5000), told(30, None, 5001)], [5000, 5001, 5002]);
    assert_eq!([told(40, Some(7), 5001), told(50, Some(7), 5001)], [7, 7], "the field's own time never moves");
    assert_eq!([told(60, None, 5003), told(70, None, 1000)], [5003, 1000], "a clock that is set back is believed");
}

#[test]
fn events_keep_their_order_and_times_and_what_is_past_is_never_the_newest() {
    use SampleKind::{Event, Past};
    let mut bench = Bench::new("change", Some(60_000));
    let now = bench.at(9000);
    let batch = [own(100, 3000, Event), own(101, 3001, Event), own(100, 2000, Event), own(400, 8000, Past)];
    let told = bench.take(&batch, now);
    assert_eq!(
        told,
        ["10 good @3000", "10.1 good @3001", "10 good @2000", "40 good @8000"],
        "no deadband, no interval"
    );
    let newest = bench.latest.read(POINT).unwrap();
    assert_eq!(
        (newest.value, newest.source_time.as_millis()),
        (Some(Value::Float64(10.0)), 2000),
        "as the device told it"
    );
    let recent: Vec<_> = bench.recent.of(POINT).iter().map(|moment| (moment.at, moment.value)).collect();
    assert_eq!(recent, [(2000, Some(10.0)), (3000, Some(10.0)), (3001, Some(10.1)), (8000, Some(40.0))]);
    assert!(Bench::new("never", None).take(&batch, now).is_empty());
}

#[test]
fn a_held_change_and_the_value_of_a_period_go_up_without_a_sample() {
    let mut bench = Bench::new("change", Some(2000));
    assert_eq!(bench.take(&[read(100)], bench.at(0)), ["10 good @0"]);
    assert!(bench.take(&[read(200)], bench.at(500)).is_empty());
    assert_eq!(bench.wait(1999), Vec::<String>::new());
    assert_eq!(bench.wait(4000), ["20 good @500"], "when its interval ends, with its own time");

    let mut bench = Bench::new("every 2s", None);
    let sample = own(100, 7, SampleKind::Current);
    assert_eq!(bench.take(&[sample], bench.at(100)), ["10 good @7"]);
    assert_eq!(bench.wait(2300), ["10 good @100"], "with the time of its last confirmation");
    bench.pipeline.confirm([POINT], bench.at(3000));
    assert_eq!(bench.wait(4300), ["10 good @3000"]);
    assert!(bench.take(&[RawSample::failed(POINT, Reason::LinkDown)], bench.at(4400)).len() == 1);
    assert!(bench.wait(60_000).is_empty(), "what is bad is not told again and again");
}

#[test]
fn a_value_that_is_not_refreshed_is_stale_unless_it_is_bad() {
    let mut bench = Bench::new("change", None);
    bench.take(&[read(100)], bench.at(0));
    bench.take(&[read(101)], bench.at(3000));
    assert!(bench.wait(7999).is_empty());
    assert_eq!(bench.wait(9000), ["10.1 uncertain: stale @8000"]);
    let reading = bench.latest.read(POINT).unwrap();
    assert_eq!((reading.value_time.as_millis(), reading.gateway_time.as_millis()), (3000, 3000), "its age goes on");
    assert!(bench.wait(60_000).is_empty(), "once");
    assert_eq!(
        bench.take(&[read(101)], bench.at(61_000)),
        ["10.1 good @61000"],
        "and is good again with the next value"
    );
    bench.take(&[RawSample::failed(POINT, Reason::Timeout)], bench.at(62_000));
    bench.wait(90_000);
    assert_eq!(bench.latest.read(POINT).unwrap().quality, Quality::Bad(Reason::Timeout));
}

#[test]
fn a_point_is_treated_as_it_was_planned_last_however_often_that_was() {
    let mut bench = Bench::new("change", None);
    assert_eq!(bench.take(&[read(900)], bench.at(0)), ["90 good @0"]);
    for high in 80..180 {
        let plan = PointPlan { high: Some(f64::from(high)), ..bench.plan.clone() };
        bench.pipeline.replan(vec![(POINT, plan)]);
    }
    assert!(bench.take(&[read(901)], bench.at(100)).is_empty(), "what was told is known");
    assert_eq!(bench.take(&[read(1700)], bench.at(200)), ["170 good @200"]);
    assert_eq!(bench.take(&[read(1900)], bench.at(300)), ["190 uncertain: out of range @300"]);
    assert!(bench.pipeline.plans.0.len() <= 3);
}

#[test]
fn a_wall_clock_that_leaps_holds_up_nothing() {
    let mut bench = Bench::new("every 2s", None);
    let at = |bench: &Bench, millis, wall| Moment { wall: Timestamp::from_millis(wall), ..bench.at(millis) };
    assert_eq!(bench.take(&[read(100)], at(&bench, 0, 50_000)), ["10 good @50000"]);
    assert_eq!(bench.take(&[read(200)], at(&bench, 2000, 10_000)), ["20 good @10000"], "set back by a minute");
    assert!(bench.take(&[read(300)], at(&bench, 2500, 9_000_000)).is_empty(), "no sooner for a leap ahead");
}
