//! What becomes of samples: shaped, judged, kept, and told where they are worth it.

mod deadlines;
mod plan;
mod report;

pub use plan::PointPlan;
pub use report::{DueAgain, ParseReportError, Report, ReportPolicy, ReportState};

use crate::{
    LatestTable, Moment, PointIndex, Quality, RawSample, Reading, Reason, RecentValues, Sample, SampleKind, Timestamp,
};
use deadlines::Deadlines;
use std::sync::Arc;
use std::time::Instant;

/// Shapes, checks, stores and filters batches of one link's samples.
///
/// Each link owns one, made over the points of that link only, all writing into the gateway's tables: the one writer of each
/// slot. Once it has seen every point it allocates nothing for numeric samples.
///
/// Policies that depend on time have their say without a sample, too: whoever owns the pipeline asks for its
/// [`deadline`](Pipeline::deadline), and lets it [look](Pipeline::handle_deadline) then.
#[derive(Debug)]
pub struct Pipeline {
    latest: Arc<LatestTable>,
    recent: Arc<RecentValues>,
    /// The least index of a point of this link.
    first: PointIndex,
    /// By index from `first` on: the place in `points`, or [`NOT_OURS`].
    places: Vec<u32>,
    points: Vec<Shaped>,
    deadlines: Deadlines,
}

#[derive(Debug)]
struct Shaped {
    index: PointIndex,
    plan: PointPlan,
    report: ReportState,
    /// The last time that the gateway gave to a sample of it.
    stamped: Timestamp,
    /// When its value was fresh last; `None` while there is none, or it is bad or stale.
    fresh_at: Option<Instant>,
    /// When it stands among the deadlines.
    queued: Option<Instant>,
}

/// So far a time that the gateway gives may run ahead of its clock, in milliseconds; beyond, the clock was set back.
const AHEAD: i64 = 1000;
/// So many points are looked at in one go when their deadlines have come; the others follow at once.
const AT_A_TIME: usize = 1000;

impl Shaped {
    /// The time of a sample that has none of its own: of two within a millisecond the later one gets the next, so that no
    /// two values of a point have one time.
    fn stamp(&mut self, now: Timestamp) -> Timestamp {
        let ahead = self.stamped.as_millis().saturating_sub(now.as_millis());
        let at = if (0..AHEAD).contains(&ahead) { Timestamp::from_millis(self.stamped.as_millis() + 1) } else { now };
        self.stamped = at;
        at
    }

    /// Its value was not refreshed for too long. Gives what is to be told of that.
    fn stale(&mut self, latest: &LatestTable, reading: &Reading, now: Moment) -> Option<(Quality, Timestamp)> {
        let quality = Quality::Uncertain(Reason::Stale);
        self.fresh_at = None;
        latest.store(self.index, None, quality, reading.source_time, reading.gateway_time);
        let is_due = self.report.is_due(&self.plan.policy, reading.value.as_ref(), quality, now.instant);
        is_due.then(|| (quality, self.stamp(now.wall)))
    }

    /// Time alone may make its value due. Gives what is to be told of it.
    fn again(&mut self, reading: &Reading, now: Moment) -> Option<(Quality, Timestamp)> {
        let (value, quality) = (reading.value.as_ref(), reading.quality);
        let time = match self.report.is_due_again(&self.plan.policy, value, quality, now.instant)? {
            DueAgain::HeldChange => reading.source_time,
            // The last time that the field confirmed it.
            DueAgain::Period => reading.source_time.max(reading.gateway_time),
        };
        Some((quality, time))
    }

    fn stale_at(&self) -> Option<Instant> {
        self.fresh_at.zip(self.plan.stale_after).map(|(at, span)| at + span)
    }

    /// When it is to be looked at, if nothing new comes before. What is bad or stale is not told again.
    fn deadline(&self) -> Option<Instant> {
        let told = self.fresh_at.and_then(|_| self.report.deadline(&self.plan.policy));
        self.stale_at().into_iter().chain(told).min()
    }
}

const NOT_OURS: u32 = u32::MAX;

impl Pipeline {
    /// A pipeline for some points of a table, best close together in it.
    #[must_use]
    pub fn new(latest: Arc<LatestTable>, recent: Arc<RecentValues>, plans: Vec<(PointIndex, PointPlan)>) -> Self {
        let first = plans.iter().map(|(index, _)| *index).min().unwrap_or(PointIndex(0));
        let last = plans.iter().map(|(index, _)| *index).max().unwrap_or(first);
        let mut places = vec![NOT_OURS; last.position() - first.position() + 1];
        for (place, (index, _)) in (0..NOT_OURS).zip(&plans) {
            if let Some(slot) = places.get_mut(index.position() - first.position()) {
                *slot = place;
            }
        }
        let shaped = |(index, plan)| Shaped {
            index,
            plan,
            report: ReportState::new(),
            stamped: Timestamp::MIN,
            fresh_at: None,
            queued: None,
        };
        let points = plans.into_iter().map(shaped).collect();
        Self { latest, recent, first, places, points, deadlines: Deadlines::default() }
    }

    fn place(&self, index: PointIndex) -> Option<u32> {
        self.places.get(index.position().checked_sub(self.first.position())?).copied()
    }

    /// Takes a batch in, in the order in which the device told it, and appends what is worth reporting to `reported`.
    ///
    /// Samples of points that are not this pipeline's are passed over.
    pub fn process(&mut self, batch: &[RawSample], now: Moment, reported: &mut Vec<Sample>) {
        for sample in batch {
            let Some(place) = self.place(sample.point) else { continue };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            let source_time = sample.source_time.unwrap_or_else(|| shaped.stamp(now.wall));
            let Shaped { plan, report: state, .. } = shaped;
            let shaped_value = sample.value.as_ref().map(|raw| (plan.shaping.apply(raw), raw));
            let quality = shaped_value.as_ref().map_or(sample.quality, |(value, _)| plan.judge(value, sample.quality));
            let value = shaped_value.filter(|(value, _)| !value.is_nan() && !value.is_not_finite());
            let number = value.as_ref().filter(|_| !quality.is_bad()).and_then(|(value, _)| value.as_f64());
            let is_newest = sample.kind != SampleKind::Past;
            if is_newest {
                let both = value.as_ref().map(|(value, raw)| (value, *raw));
                self.latest.store(sample.point, both, quality, source_time, now.wall);
            }
            match sample.kind {
                SampleKind::Current => self.recent.push(sample.point, now.wall, number, quality),
                SampleKind::Event | SampleKind::Past => {
                    self.recent.insert(sample.point, source_time, number, quality);
                }
            }
            let value = value.map(|(value, _)| value);
            let is_due = match sample.kind {
                SampleKind::Current => state.is_due(&plan.policy, value.as_ref(), quality, now.instant),
                SampleKind::Event => state.take_event(&plan.policy, value.as_ref(), quality, now.instant),
                SampleKind::Past => plan.policy.report != Report::Never,
            };
            if is_due {
                let (point, kind, gateway_time) = (sample.point, sample.kind, now.wall);
                reported.push(Sample { point, value, quality, source_time, gateway_time, kind });
            }
            if is_newest {
                shaped.fresh_at = (!quality.is_bad()).then_some(now.instant);
                self.deadlines.want(place, shaped.deadline(), &mut shaped.queued);
            }
        }
    }

    /// What is known of some points still holds: the device, or its server, said that nothing changed. Values that are bad stay so.
    pub fn confirm(&mut self, points: impl IntoIterator<Item = PointIndex>, now: Moment) {
        for point in points {
            let Some(place) = self.place(point) else { continue };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            if shaped.fresh_at.is_some()
                && let Some(reading) = self.latest.read(point)
            {
                self.latest.store(point, None, reading.quality, reading.source_time, now.wall);
                shaped.fresh_at = Some(now.instant);
            }
        }
    }

    /// When [`Pipeline::handle_deadline`] is to be called, if nothing comes before; ask again after every other call.
    #[must_use]
    pub fn deadline(&self) -> Option<Instant> {
        self.deadlines.next()
    }

    /// Looks at what time alone makes due: changes that were held back, values of a period, values that are stale. Calls that
    /// come early do nothing.
    pub fn handle_deadline(&mut self, now: Moment, reported: &mut Vec<Sample>) {
        for _ in 0..AT_A_TIME {
            let Some((at, place)) = self.deadlines.take(now.instant) else { return };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            if shaped.queued != Some(at) {
                // It stands elsewhere, too: that one counts.
                continue;
            }
            shaped.queued = None;
            let point = shaped.index;
            if shaped.fresh_at.is_some()
                && let Some(reading) = self.latest.read(point)
            {
                let is_stale = shaped.stale_at().is_some_and(|at| now.instant >= at);
                let again =
                    if is_stale { shaped.stale(&self.latest, &reading, now) } else { shaped.again(&reading, now) };
                if let Some((quality, source_time)) = again {
                    let (value, kind, gateway_time) = (reading.value, SampleKind::Current, now.wall);
                    reported.push(Sample { point, value, quality, source_time, gateway_time, kind });
                }
            }
            self.deadlines.want(place, shaped.deadline(), &mut shaped.queued);
        }
    }
}

#[cfg(test)]
mod tests;
