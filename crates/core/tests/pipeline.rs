//! What holds for the pipeline whatever a device tells, in whatever order, and however much time passes between.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::{
    LatestTable, Moment, Pipeline, PointIndex, PointPlan, Quality, RawSample, Reason, RecentValues, Report,
    ReportPolicy, Sample, SampleKind, Shaping, Timestamp, Value,
};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};

const POINT: PointIndex = PointIndex(0);
/// How long a value of a period waits for a fresh one.
const SLACK: u64 = 20;

/// What happens next.
#[derive(Debug, Clone, Copy)]
enum Step {
    /// Nothing, for so many milliseconds.
    Wait(u64),
    /// A poll brings a value.
    Read(i64),
    /// A poll brings nothing.
    Fail,
    /// The device tells a change, with a time of its own that has nothing to do with ours.
    Event(i64, i64),
    /// The device had kept a value.
    Past(i64, i64),
    /// A subscription says that nothing has changed.
    Confirm,
}

fn step() -> impl Strategy<Value = Step> {
    // Values wander about the deadband, and leap now and then.
    let raw = prop_oneof![4 => 0_i64..12, 1 => -300_i64..1300];
    prop_oneof![
        6 => (1_u64..300).prop_map(Step::Wait),
        1 => (1000_u64..4000).prop_map(Step::Wait),
        8 => raw.clone().prop_map(Step::Read),
        1 => Just(Step::Fail),
        2 => (raw.clone(), -5000_i64..5000).prop_map(|(raw, at)| Step::Event(raw, at)),
        1 => (raw, -5000_i64..5000).prop_map(|(raw, at)| Step::Past(raw, at)),
        1 => Just(Step::Confirm),
    ]
}

fn policy() -> impl Strategy<Value = ReportPolicy> {
    let report = prop_oneof![
        3 => Just("change"),
        1 => Just("never"),
        2 => Just("every 500ms"),
        2 => Just("change+every 700ms"),
    ];
    let deadband = prop_oneof![Just(0.0), Just(0.25), Just(0.5)];
    (report, deadband, proptest::option::of(1_u64..900)).prop_map(|(report, deadband, min_interval)| ReportPolicy {
        report: report.parse().unwrap(),
        deadband,
        min_interval: min_interval.map(Duration::from_millis),
        slack: Duration::from_millis(SLACK),
    })
}

/// A report, and when it went up.
#[derive(Debug, Clone)]
struct Told {
    at: u64,
    sample: Sample,
}

struct Rig {
    pipeline: Pipeline,
    latest: Arc<LatestTable>,
    start: Instant,
    now: u64,
    told: Vec<Told>,
}

impl Rig {
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn new(policy: ReportPolicy, stale_after: Option<u64>) -> Self {
        let (latest, recent) = (Arc::new(LatestTable::new(1)), Arc::new(RecentValues::default()));
        recent.grow(1);
        let shaping = Shaping::linear(0.1, 0.0);
        let stale_after = stale_after.map(Duration::from_millis);
        let plan = PointPlan { shaping: shaping.into(), low: None, high: Some(100.0), policy, stale_after };
        let pipeline = Pipeline::new(Arc::clone(&latest), recent, vec![(POINT, plan)]);
        Self { pipeline, latest, start: Instant::now(), now: 0, told: Vec::new() }
    }

    fn moment(&self, at: u64) -> Moment {
        let wall = Timestamp::from_millis(1_800_000_000_000 + i64::try_from(at).unwrap());
        Moment { wall, instant: self.start + Duration::from_millis(at) }
    }

    fn keep(&mut self, at: u64, reported: Vec<Sample>) {
        self.told.extend(reported.into_iter().map(|sample| Told { at, sample }));
    }

    /// Time passes, and what it makes due is done when it is due.
    fn wait(&mut self, millis: u64) {
        let until = self.now + millis;
        while let Some(due) = self.pipeline.deadline() {
            let at = u64::try_from(due.saturating_duration_since(self.start).as_millis()).unwrap().max(self.now);
            if at > until {
                break;
            }
            let mut reported = Vec::new();
            // A deadline lies between two milliseconds now and then.
            self.now = at + u64::from(self.start + Duration::from_millis(at) < due);
            let moment = self.moment(self.now);
            self.pipeline.handle_deadline(moment, &mut reported);
            self.keep(self.now, reported);
        }
        self.now = until.max(self.now);
    }

    fn take(&mut self, sample: RawSample) {
        let mut reported = Vec::new();
        let moment = self.moment(self.now);
        self.pipeline.process(&[sample], moment, &mut reported);
        self.keep(self.now, reported);
    }

    fn carry_out(&mut self, step: Step) {
        let own = |raw, at: i64, kind| RawSample {
            source_time: Some(Timestamp::from_millis(1_800_000_000_000 + at)),
            kind,
            ..RawSample::read(POINT, Value::Int(raw))
        };
        match step {
            Step::Wait(millis) => self.wait(millis),
            Step::Read(raw) => self.take(RawSample::read(POINT, Value::Int(raw))),
            Step::Fail => self.take(RawSample::failed(POINT, Reason::Timeout)),
            Step::Event(raw, at) => self.take(own(raw, at, SampleKind::Event)),
            Step::Past(raw, at) => self.take(own(raw, at, SampleKind::Past)),
            Step::Confirm => {
                let moment = self.moment(self.now);
                self.pipeline.confirm([POINT], moment);
            }
        }
    }

    /// The last report of the newest state: what was had back from a memory is none.
    fn last(&self) -> Option<&Told> {
        self.told.iter().rev().find(|told| told.sample.kind != SampleKind::Past)
    }
}

fn number(value: Option<&Value>) -> Option<f64> {
    value.and_then(Value::as_f64)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    #[test]
    fn every_event_goes_up_once_in_its_order_and_with_its_own_time(policy in policy(), steps in prop::collection::vec(step(), 1..60)) {
        let is_never = policy.report == Report::Never;
        let mut rig = Rig::new(policy, Some(5000));
        let mut expected = Vec::new();
        for step in steps {
            if let Step::Event(raw, at) | Step::Past(raw, at) = step {
                expected.push((Some(raw), at));
            }
            rig.carry_out(step);
        }
        let own = rig.told.iter().filter(|told| told.sample.kind != SampleKind::Current);
        let own: Vec<_> = own
            .map(|told| {
                #[expect(clippy::cast_possible_truncation, reason = "small numbers")]
                let raw = number(told.sample.value.as_ref()).map(|value| (value * 10.0).round() as i64);
                (raw, told.sample.source_time.as_millis() - 1_800_000_000_000)
            })
            .collect();
        prop_assert_eq!(own, if is_never { Vec::new() } else { expected });
        prop_assert!(!is_never || rig.told.is_empty(), "never is never");
    }

    #[test]
    fn a_host_is_never_further_from_the_truth_than_the_deadband_once_the_interval_is_over(
        policy in policy(), steps in prop::collection::vec(step(), 1..60), stale in proptest::option::of(1000_u64..3000),
    ) {
        let mut rig = Rig::new(policy.clone(), stale);
        let tells_changes = matches!(policy.report, Report::Change | Report::ChangeOrEvery(_));
        for step in steps {
            rig.carry_out(step);
            let Some(reading) = rig.latest.read(POINT).filter(|reading| reading.quality != Quality::Bad(Reason::NeverRead)) else { continue };
            if !tells_changes {
                continue;
            }
            let last = rig.last().unwrap();
            let is_held = policy.min_interval.is_some_and(|least| rig.now - last.at <= u64::try_from(least.as_millis()).unwrap());
            prop_assert!(is_held || last.sample.quality == reading.quality, "{:?} is told, and {:?} is so", last, reading);
            if !is_held && !reading.quality.is_bad() {
                let (told, is) = (number(last.sample.value.as_ref()).unwrap(), number(reading.value.as_ref()).unwrap());
                prop_assert!((told - is).abs() <= policy.deadband + 1e-9, "{} is told, and {} is so", told, is);
            }
        }
    }

    #[test]
    fn changes_keep_their_interval_and_what_goes_up_is_what_is_known_then(policy in policy(), steps in prop::collection::vec(step(), 1..60)) {
        let mut rig = Rig::new(policy.clone(), Some(2000));
        let mut before = 0;
        for step in steps {
            rig.carry_out(step);
            let reading = rig.latest.read(POINT).unwrap();
            // Of what time made due within one step, the last is the state; values that were told are never older than the read.
            if let Some(told) = rig.told[before..].iter().rev().find(|told| told.sample.kind == SampleKind::Current) {
                prop_assert_eq!(told.sample.quality, reading.quality);
                if !reading.quality.is_bad() {
                    prop_assert_eq!(&told.sample.value, &reading.value);
                }
            }
            before = rig.told.len();
        }
        if policy.report != Report::Change {
            return Ok(());
        }
        let Some(least) = policy.min_interval.map(|least| u64::try_from(least.as_millis()).unwrap()) else { return Ok(()) };
        let states: Vec<_> = rig.told.iter().filter(|told| told.sample.kind != SampleKind::Past).collect();
        for pair in states.windows(2).filter(|pair| pair[1].sample.kind == SampleKind::Current) {
            let is_same = pair[0].sample.quality == pair[1].sample.quality;
            prop_assert!(!is_same || pair[1].at - pair[0].at >= least, "{:?}", pair);
        }
    }

    #[test]
    fn while_a_source_is_alive_a_period_tells_it_and_what_is_not_refreshed_is_stale(
        policy in policy(), steps in prop::collection::vec(step(), 1..60), stale in 1000_u64..3000,
    ) {
        let mut rig = Rig::new(policy.clone(), Some(stale));
        let period = policy.report.period().map(|period| u64::try_from(period.as_millis()).unwrap());
        // When the value was fresh last; none while there is none.
        let mut fresh_at: Option<u64> = None;
        for step in steps {
            rig.carry_out(step);
            match step {
                Step::Read(_) | Step::Event(..) => fresh_at = Some(rig.now),
                Step::Fail => fresh_at = None,
                // What is stale is not revived by a word; the device has to tell its value.
                Step::Confirm => fresh_at = fresh_at.filter(|at| rig.now - at < stale).map(|_| rig.now),
                Step::Wait(_) | Step::Past(..) => {}
            }
            let reading = rig.latest.read(POINT).unwrap();
            let Some(at) = fresh_at else { continue };
            let is_stale = rig.now - at >= stale;
            prop_assert_eq!(reading.quality == Quality::Uncertain(Reason::Stale), is_stale, "{} after {}", rig.now, at);
            if let (Some(period), false) = (period, is_stale) {
                let last = rig.last().unwrap().at;
                prop_assert!(rig.now - last <= period + SLACK + 1, "told at {}, and it is {}", last, rig.now);
            }
        }
    }
}
