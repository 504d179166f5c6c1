use crate::ALLOCATOR;
use crate::report::{best, header, now, rate, row};
use interlex_core::{
    LatestTable, Moment, Pipeline, PointIndex, PointPlan, RawSample, RecentValues, Report, ReportPolicy, Shaping,
    Timestamp, Value,
};
use stats_alloc::Region;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Duration;

const POINTS: u32 = 100_000;
/// As many samples as one request brings.
const BATCH: usize = 125;
const ROUNDS: u32 = 20;

fn plan() -> PointPlan {
    PointPlan {
        shaping: Shaping::linear(0.01, 0.0).into(),
        low: Some(0.0),
        high: Some(1000.0),
        policy: ReportPolicy { report: Report::Change, deadband: 0.05, min_interval: None, slack: Duration::ZERO },
        stale_after: Some(Duration::from_secs(5)),
    }
}

/// A tenth of the samples move beyond the deadband, as on a plant in steady operation.
fn samples(round: u32) -> Vec<RawSample> {
    let value =
        |point: u32| Value::Uint(u64::from(5000 + if point.is_multiple_of(10) { round % 2 * 100 } else { round % 2 }));
    let sample = |point| RawSample::read(PointIndex(point), value(point));
    (0..POINTS).map(sample).collect()
}

pub(crate) fn run() -> anyhow::Result<()> {
    let latest = Arc::new(LatestTable::new(100_000));
    let start = now();
    let recent = Arc::new(RecentValues::default());
    let mut pipeline = Pipeline::new(latest, recent, (0..POINTS).map(|point| (PointIndex(point), plan())).collect());
    let rounds = [samples(0), samples(1)];
    let mut reported = Vec::with_capacity(BATCH);
    let mut told = 0_usize;
    let mut pass = |batch: &[RawSample], millis: i64| {
        for part in batch.chunks(BATCH) {
            reported.clear();
            let instant = start + Duration::from_millis(millis.unsigned_abs());
            pipeline.process(part, Moment { wall: Timestamp::from_millis(millis), instant }, &mut reported);
            told += reported.len();
        }
    };
    rounds.iter().for_each(|batch| pass(batch, 0));
    let raws: Vec<u64> = (0..u64::from(POINTS)).collect();
    let mut slots = vec![0.0_f64; raws.len()];
    let region = Region::new(ALLOCATOR);
    let ours = || {
        let start = now();
        for round in 0..ROUNDS {
            rounds.iter().for_each(|batch| pass(batch, i64::from(round)));
        }
        rate(POINTS * ROUNDS * 2, start.elapsed())
    };
    // The least that shaping and keeping the latest value can be: one multiplication and one store a sample.
    let raw = || {
        let start = now();
        for _ in 0..ROUNDS {
            for (slot, raw) in slots.iter_mut().zip(black_box(&raws)) {
                #[expect(clippy::cast_precision_loss, reason = "small numbers")]
                let number = *raw as f64;
                *slot = number * 0.01;
            }
            black_box(&mut slots);
        }
        rate(POINTS * ROUNDS, start.elapsed())
    };
    let (ours, raw) = best(ours, raw);
    let allocations = region.change().allocations;
    header("pipeline: 100,000 points, one core, a tenth of the samples reported");
    row("samples/s", &format!("{ours:.0}"), &format!("{raw:.0}"), Some(ours / raw));
    row("allocations in all rounds", &allocations.to_string(), "0", None);
    row("samples reported", &told.to_string(), "-", None);
    Ok(())
}
