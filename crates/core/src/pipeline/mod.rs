//! What becomes of samples: shaped, judged, kept, and told where they are worth it.

mod deadlines;
mod plan;
mod report;
mod tick;

pub use plan::PointPlan;
pub use report::{DueAgain, ParseReportError, Report, ReportPolicy, ReportState};
pub use tick::Tick;

use crate::{
    LatestTable, Moment, PointIndex, Quality, RawSample, Reading, Reason, RecentValues, Sample, SampleKind,
    TimeQuality, Timestamp, Value,
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
    plans: Plans,
    deadlines: Deadlines,
    /// What ticks are counted from: the first moment that it was told.
    start: Option<Instant>,
}

/// There is one of each point: 64 bytes.
#[derive(Debug)]
struct Shaped {
    index: PointIndex,
    /// Its place among the plans.
    plan: u32,
    report: ReportState,
    /// The last time that the gateway gave to a sample of it.
    stamped: Timestamp,
    /// When its value was fresh last; `None` while there is none, or it is bad or stale.
    fresh_at: Option<Tick>,
    /// When it stands among the deadlines.
    queued: Option<Tick>,
}

const _: () = assert!(size_of::<Shaped>() <= 64);

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
    fn stale(
        &mut self,
        plan: &PointPlan,
        latest: &LatestTable,
        reading: &Reading,
        (tick, wall): (Tick, Timestamp),
    ) -> Option<(Quality, Timestamp)> {
        let quality = Quality::Uncertain(Reason::Stale);
        self.fresh_at = None;
        latest.store(self.index, None, quality, reading.source_time, reading.gateway_time);
        let is_due = self.report.is_due(&plan.policy, reading.value.as_ref(), quality, tick);
        is_due.then(|| (quality, self.stamp(wall)))
    }

    /// Time alone may make its value due. Gives what is to be told of it.
    fn again(&mut self, plan: &PointPlan, reading: &Reading, tick: Tick) -> Option<(Quality, Timestamp)> {
        let (value, quality) = (reading.value.as_ref(), reading.quality);
        let time = match self.report.is_due_again(&plan.policy, value, quality, tick)? {
            DueAgain::HeldChange => reading.source_time,
            // The last time that the field confirmed it.
            DueAgain::Period => reading.source_time.max(reading.gateway_time),
        };
        Some((quality, time))
    }

    fn stale_at(&self, plan: &PointPlan) -> Option<Tick> {
        self.fresh_at.zip(plan.stale_after).map(|(at, span)| at + span)
    }

    /// When it is to be looked at, if nothing new comes before. What is bad or stale is not told again.
    fn deadline(&self, plan: &PointPlan) -> Option<Tick> {
        let told = self.fresh_at.and_then(|_| self.report.deadline(&plan.policy));
        self.stale_at(plan).into_iter().chain(told).min()
    }
}

const NOT_OURS: u32 = u32::MAX;
/// So many plans are compared with that of a point, to share one.
const SHARED: usize = 50;

/// How points are treated: those with the same plan share it, so that what is looked at all the time is small.
#[derive(Debug, Default)]
struct Plans(Vec<PointPlan>);

impl Plans {
    /// The place of a plan. Neighbours in a list are much the same.
    fn share(&mut self, plan: PointPlan) -> u32 {
        let known = self.0.iter().rev().take(SHARED).position(|known| *known == plan);
        let at = known.map_or(self.0.len(), |back| self.0.len() - 1 - back);
        if at == self.0.len() {
            self.0.push(plan);
        }
        u32::try_from(at).unwrap_or(u32::MAX)
    }

    fn get(&self, place: u32) -> Option<&PointPlan> {
        self.0.get(PointIndex(place).position())
    }
}

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
        let mut shared = Plans::default();
        let shaped = |(index, plan)| Shaped {
            index,
            plan: shared.share(plan),
            report: ReportState::new(),
            stamped: Timestamp::MIN,
            fresh_at: None,
            queued: None,
        };
        let mut points: Vec<_> = plans.into_iter().map(shaped).collect();
        // It stands where the plans stood, which took more.
        points.shrink_to_fit();
        let (plans, deadlines) = (shared, Deadlines::new(points.len()));
        Self { latest, recent, first, places, points, plans, deadlines, start: None }
    }

    /// Whether a point is one of its own.
    #[must_use]
    pub fn has(&self, point: PointIndex) -> bool {
        self.place(point).is_some_and(|place| place != NOT_OURS)
    }

    /// Nothing more is told of these points.
    pub fn forget(&mut self, points: &[PointIndex]) {
        for point in points {
            let at = point.position().checked_sub(self.first.position());
            if let Some(place) = at.and_then(|at| self.places.get_mut(at)) {
                *place = NOT_OURS;
            }
        }
    }

    /// These points mean something else from now on: what was read and reported of them is forgotten.
    pub fn begin_anew(&mut self, points: &[PointIndex]) {
        for point in points {
            let place = self.place(*point).map(|place| PointIndex(place).position());
            let Some(shaped) = place.and_then(|place| self.points.get_mut(place)) else { continue };
            (shaped.report, shaped.fresh_at) = (ReportState::new(), None);
            self.latest.forget(*point);
            self.recent.forget(*point);
        }
    }

    /// Some points are treated in another way from now on. What was read and reported of those whose values mean something else
    /// by that is forgotten.
    pub fn replan(&mut self, plans: Vec<(PointIndex, PointPlan)>) {
        let mut redefined = Vec::new();
        for (index, plan) in plans {
            let place = self.place(index).map(|place| PointIndex(place).position());
            let Some(shaped) = place.and_then(|place| self.points.get_mut(place)) else { continue };
            if self.plans.get(shaped.plan).is_none_or(|known| known.shaping != plan.shaping) {
                redefined.push(index);
            }
            shaped.plan = self.plans.share(plan);
        }
        // Those that no point has any more go when they are as many as points.
        if self.plans.0.len() > 2 * self.points.len() {
            let mut used = Plans::default();
            for shaped in &mut self.points {
                shaped.plan = self.plans.get(shaped.plan).map_or(u32::MAX, |plan| used.share(plan.clone()));
            }
            self.plans = used;
        }
        self.begin_anew(&redefined);
    }

    /// Other points from now on, in a table that shares its slots with the one before. Points that did not change keep what was
    /// reported of them.
    pub fn change(&mut self, latest: Arc<LatestTable>, plans: Vec<(PointIndex, PointPlan)>) {
        let new = Self { start: self.start, ..Self::new(latest, Arc::clone(&self.recent), plans) };
        let before = std::mem::replace(self, new);
        for shaped in before.points {
            let is_forgotten = before
                .places
                .get(shaped.index.position().saturating_sub(before.first.position()))
                .is_none_or(|place| *place == NOT_OURS);
            let Some(place) = self.place(shaped.index).filter(|_| !is_forgotten) else { continue };
            let Some(known) = self.points.get_mut(PointIndex(place).position()) else { continue };
            let Some(plan) = self.plans.get(known.plan).filter(|plan| before.plans.get(shaped.plan) == Some(plan))
            else {
                continue;
            };
            *known = Shaped { queued: None, plan: known.plan, ..shaped };
            self.deadlines.want(place, known.deadline(plan), &mut known.queued);
        }
    }

    fn place(&self, index: PointIndex) -> Option<u32> {
        self.places.get(index.position().checked_sub(self.first.position())?).copied()
    }

    fn tick(&mut self, now: Instant) -> Tick {
        Tick::at(now.saturating_duration_since(*self.start.get_or_insert(now)))
    }

    /// Takes a batch in, in the order in which the device told it, and appends what is worth reporting to `reported`.
    ///
    /// Samples of points that are not this pipeline's are passed over.
    pub fn process(&mut self, batch: &[RawSample], now: Moment, reported: &mut Vec<Sample>) {
        let tick = self.tick(now.instant);
        let recent = self.recent.writer();
        for sample in batch {
            let at = sample.point.position().checked_sub(self.first.position());
            let Some(place) = at.and_then(|at| self.places.get(at)).copied() else { continue };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            let Some(plan) = self.plans.get(shaped.plan) else { continue };
            let source_time = sample.source_time.unwrap_or_else(|| shaped.stamp(now.wall));
            let state = &mut shaped.report;
            let (value, number, quality) = match &sample.value {
                Some(raw) => plan.shaped(raw, sample.quality),
                None => (None, None, sample.quality),
            };
            let number = number.filter(|_| !quality.is_bad());
            let is_newest = sample.kind != SampleKind::Past;
            if is_newest {
                let both = value.as_ref().zip(sample.value.as_ref());
                let time = (source_time, sample.time_quality);
                self.latest.store_timed(sample.point, both, quality, time, now.wall);
            }
            match sample.kind {
                SampleKind::Current => recent.push(sample.point, now.wall, number, quality),
                SampleKind::Event | SampleKind::Past => {
                    recent.insert(sample.point, source_time, number, quality);
                }
            }
            let is_due = match sample.kind {
                SampleKind::Current => state.is_due(&plan.policy, value.as_ref(), quality, tick),
                SampleKind::Event => state.take_event(&plan.policy, value.as_ref(), quality, tick),
                SampleKind::Past => plan.policy.report != Report::Never,
            };
            if is_due {
                let (point, kind, gateway_time) = (sample.point, sample.kind, now.wall);
                let time_quality = sample.time_quality;
                reported.push(Sample { point, value, quality, source_time, gateway_time, time_quality, kind });
            }
            if is_newest {
                shaped.fresh_at = (!quality.is_bad()).then_some(tick);
                // A deadline that only moves on is found when the old one comes.
                if shaped.queued.is_none() || shaped.report.is_timed() {
                    self.deadlines.want(place, shaped.deadline(plan), &mut shaped.queued);
                }
            }
        }
    }

    /// What a raw value of a point means, where it is one of ours.
    #[must_use]
    pub fn shaped(&self, point: PointIndex, raw: &Value) -> Option<Value> {
        let place = PointIndex(self.place(point)?).position();
        self.plans.get(self.points.get(place)?.plan)?.shaped(raw, Quality::Good).0
    }

    /// What is known of some points still holds: the device, or its server, said that nothing changed. Values that are bad stay so.
    pub fn confirm(&mut self, points: impl IntoIterator<Item = PointIndex>, now: Moment) {
        let tick = self.tick(now.instant);
        for point in points {
            let Some(place) = self.place(point) else { continue };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            if shaped.fresh_at.is_some()
                && let Some(reading) = self.latest.read(point)
            {
                self.latest.store(point, None, reading.quality, reading.source_time, now.wall);
                shaped.fresh_at = Some(tick);
            }
        }
    }

    /// When [`Pipeline::handle_deadline`] is to be called, if nothing comes before; ask again after every other call.
    #[must_use]
    pub fn deadline(&self) -> Option<Instant> {
        Some(self.start? + self.deadlines.next()?.since_start())
    }

    /// Looks at what time alone makes due: changes that were held back, values of a period, values that are stale. Calls that
    /// come early do nothing.
    pub fn handle_deadline(&mut self, now: Moment, reported: &mut Vec<Sample>) {
        let tick = self.tick(now.instant);
        for _ in 0..AT_A_TIME {
            let Some((at, place)) = self.deadlines.take(tick) else { return };
            let Some(shaped) = self.points.get_mut(PointIndex(place).position()) else { continue };
            if shaped.queued != Some(at) {
                // It stands elsewhere, too: that one counts.
                continue;
            }
            shaped.queued = None;
            let Some(plan) = self.plans.get(shaped.plan) else { continue };
            let point = shaped.index;
            if shaped.fresh_at.is_some()
                && let Some(reading) = self.latest.read(point)
            {
                let is_stale = shaped.stale_at(plan).is_some_and(|at| tick >= at);
                let again = if is_stale {
                    shaped.stale(plan, &self.latest, &reading, (tick, now.wall))
                } else {
                    shaped.again(plan, &reading, tick)
                };
                if let Some((quality, source_time)) = again {
                    let (value, kind, gateway_time) = (reading.value, SampleKind::Current, now.wall);
                    let time_quality = TimeQuality::Unsaid;
                    reported.push(Sample { point, value, quality, source_time, gateway_time, time_quality, kind });
                }
            }
            self.deadlines.want(place, shaped.deadline(plan), &mut shaped.queued);
        }
    }
}

#[cfg(test)]
mod tests;
