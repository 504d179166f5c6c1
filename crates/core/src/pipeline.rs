use crate::description::{Point, Span};
use crate::{LatestTable, PointIndex, Quality, Reason, Report, ReportState, Sample, Shaping, Timestamp, Value};
use std::sync::Arc;

/// What a link driver learned of one point.
#[derive(Debug, Clone, PartialEq)]
pub struct RawSample {
    /// Which point.
    pub point: PointIndex,
    /// The value before shaping, or why there is none.
    pub outcome: Result<Value, Reason>,
    /// The field's own time, where the protocol has one.
    pub source_time: Option<Timestamp>,
}

/// How the samples of one point are treated.
#[derive(Debug, Clone)]
pub struct PointPlan {
    /// From raw to engineering value.
    pub shaping: Shaping,
    /// Below this engineering value the quality is uncertain.
    pub low: Option<f64>,
    /// Above this engineering value the quality is uncertain.
    pub high: Option<f64>,
    /// When a value goes up.
    pub report: Report,
    /// By how much it must move to go up on change, in engineering units.
    pub deadband: f64,
    /// How long a change waits at least after the report before it.
    pub min_interval: Option<Span>,
}

impl PointPlan {
    /// As a point is described.
    #[must_use]
    pub fn of(point: &Point) -> Self {
        let settings = &point.settings;
        Self {
            shaping: point.shaping.clone(),
            low: settings.low,
            high: settings.high,
            report: settings.report,
            deadband: settings.deadband(),
            min_interval: settings.min_interval,
        }
    }
}

/// Shapes, checks, stores and filters batches of one link's samples.
///
/// Each link owns one, made over the points of that link only, all writing into the gateway's one table. Once
/// it has seen every point it allocates nothing for numeric samples.
#[derive(Debug)]
pub struct Pipeline {
    latest: Arc<LatestTable>,
    /// The least index of a point of this link.
    first: PointIndex,
    /// By index from `first` on: the place in `points`, or [`NOT_OURS`].
    places: Vec<u32>,
    points: Vec<Shaped>,
}

#[derive(Debug)]
struct Shaped {
    plan: PointPlan,
    report: ReportState,
    /// The last time that the gateway gave to a sample of it.
    stamped: Timestamp,
}

/// So far a time that the gateway gives may run ahead of its clock, in milliseconds; beyond, the clock was set back.
const AHEAD: i64 = 1000;

impl Shaped {
    /// The time of a sample that has none of its own: of two within a millisecond the later one gets the next, so that no
    /// two values of a point have one time.
    fn stamp(&mut self, now: Timestamp) -> Timestamp {
        let ahead = self.stamped.as_millis().saturating_sub(now.as_millis());
        let at = if (0..AHEAD).contains(&ahead) { Timestamp::from_millis(self.stamped.as_millis() + 1) } else { now };
        self.stamped = at;
        at
    }
}

const NOT_OURS: u32 = u32::MAX;

impl Pipeline {
    /// A pipeline for some points of a table, best close together in it.
    #[must_use]
    pub fn new(latest: Arc<LatestTable>, plans: Vec<(PointIndex, PointPlan)>) -> Self {
        let first = plans.iter().map(|(index, _)| *index).min().unwrap_or(PointIndex(0));
        let last = plans.iter().map(|(index, _)| *index).max().unwrap_or(first);
        let mut places = vec![NOT_OURS; last.position() - first.position() + 1];
        for (place, (index, _)) in (0..NOT_OURS).zip(&plans) {
            if let Some(slot) = places.get_mut(index.position() - first.position()) {
                *slot = place;
            }
        }
        let shaped = |(_, plan)| Shaped { plan, report: ReportState::new(), stamped: Timestamp::MIN };
        let points = plans.into_iter().map(shaped).collect();
        Self { latest, first, places, points }
    }

    fn place(&self, index: PointIndex) -> Option<usize> {
        let place = self.places.get(index.position().checked_sub(self.first.position())?)?;
        Some(PointIndex(*place).position())
    }

    /// Takes a batch in, and appends what is worth reporting to `reported`.
    ///
    /// Samples of points that are not this pipeline's are passed over.
    pub fn process(&mut self, batch: &[RawSample], now: Timestamp, reported: &mut Vec<Sample>) {
        for sample in batch {
            let place = self.place(sample.point);
            let Some(shaped) = place.and_then(|at| self.points.get_mut(at)) else { continue };
            let source_time = sample.source_time.unwrap_or_else(|| shaped.stamp(now));
            let Shaped { plan, report: state, .. } = shaped;
            let (value, quality) = match &sample.outcome {
                Ok(raw) => {
                    let value = plan.shaping.apply(raw);
                    if value.is_nan() {
                        (None, Quality::Bad(Reason::NotANumber))
                    } else if value.is_not_finite() {
                        (None, Quality::Bad(Reason::Infinite))
                    } else {
                        let quality = plan.judge(&value);
                        (Some((value, raw)), quality)
                    }
                }
                Err(reason) => (None, Quality::Bad(*reason)),
            };
            let both = value.as_ref().map(|(value, raw)| (value, *raw));
            self.latest.store(sample.point, both, quality, source_time, now);
            let value = value.map(|(value, _)| value);
            if state.is_due(plan.report, (plan.deadband, plan.min_interval), value.as_ref(), quality, now) {
                let point = sample.point;
                reported.push(Sample { point, value, quality, source_time, gateway_time: now });
            }
        }
    }
}

impl PointPlan {
    fn judge(&self, value: &Value) -> Quality {
        if self.low.is_none() && self.high.is_none() {
            return Quality::Good;
        }
        let outside = value.as_f64().is_some_and(|number| {
            self.low.is_some_and(|low| number < low) || self.high.is_some_and(|high| number > high)
        });
        if outside { Quality::Uncertain(Reason::OutOfRange) } else { Quality::Good }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pipeline(latest: &Arc<LatestTable>) -> Pipeline {
        let plan = PointPlan {
            shaping: Shaping::linear(0.1, 0.0),
            low: Some(0.0),
            high: Some(100.0),
            report: Report::Change,
            deadband: 0.5,
            min_interval: None,
        };
        Pipeline::new(Arc::clone(latest), vec![(PointIndex(4), plan)])
    }

    #[test]
    fn a_batch_is_shaped_judged_stored_and_filtered() {
        let latest = Arc::new(LatestTable::new(5));
        let mut pipeline = pipeline(&latest);
        let steps = [
            (Ok(Value::Int(500)), Some("50 good")),
            (Ok(Value::Int(503)), None),
            (Ok(Value::Int(1200)), Some("120 uncertain: out of range")),
            (Err(Reason::Timeout), Some("- bad: timeout")),
            (Err(Reason::Timeout), None),
            (Ok(Value::Float32(f32::NAN)), Some("- bad: not a number")),
            (Ok(Value::Float32(f32::NEG_INFINITY)), Some("- bad: infinite")),
        ];
        for (number, (outcome, expected)) in (0_i64..).zip(steps) {
            let mut reported = Vec::new();
            let sample = RawSample { point: PointIndex(4), outcome, source_time: None };
            pipeline.process(&[sample], Timestamp::from_millis(number), &mut reported);
            let told = reported.first().map(|sample| {
                let value = sample.value.as_ref().map_or("-".to_owned(), ToString::to_string);
                format!("{value} {}", sample.quality)
            });
            assert_eq!(told.as_deref(), expected, "step {number}");
            assert_eq!(latest.read(PointIndex(4)).unwrap().gateway_time.as_millis(), number);
        }
    }

    #[test]
    fn no_two_values_of_a_point_have_one_time_that_the_gateway_gave() {
        let latest = Arc::new(LatestTable::new(5));
        let mut pipeline = pipeline(&latest);
        let mut told = |raw, source_time, now| {
            let sample = RawSample { point: PointIndex(4), outcome: Ok(Value::Int(raw)), source_time };
            let mut reported = Vec::new();
            pipeline.process(&[sample], Timestamp::from_millis(now), &mut reported);
            reported[0].source_time.as_millis()
        };
        assert_eq!([told(10, None, 5000), told(20, None, 5000), told(30, None, 5001)], [5000, 5001, 5002]);
        let own = Some(Timestamp::from_millis(7));
        assert_eq!([told(40, own, 5001), told(50, own, 5001)], [7, 7], "the field's own time never moves");
        assert_eq!([told(60, None, 5003), told(70, None, 1000)], [5003, 1000], "a clock that is set back is believed");
    }
}
