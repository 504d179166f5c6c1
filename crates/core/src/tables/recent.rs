use crate::{PointIndex, Quality, Timestamp};
use once_cell::race::OnceBox;
use parking_lot::{Mutex, RwLock, RwLockReadGuard};
use serde::Serialize;
use std::collections::VecDeque;
use std::sync::atomic::{AtomicU32, Ordering};

/// The last minutes of points, in memory, for small plots: those that somebody looks at in full, the others in short. Of a very large
/// gateway, those alone that somebody has looked at.
#[derive(Debug, Default)]
pub struct RecentValues {
    /// Written to only when a revision brings new points.
    rings: RwLock<Vec<OnceBox<Mutex<Ring>>>>,
    /// How many points somebody began to look at so far.
    looks: AtomicU32,
}

#[derive(Debug, Default)]
struct Ring {
    /// How many points somebody had begun to look at when it was looked at, itself included; none where nobody did.
    looked: Option<u32>,
    /// What the moments are counted from, in milliseconds since 1970 UTC.
    base: i64,
    moments: VecDeque<Moment>,
}

/// Twelve bytes: a large gateway has many of them.
#[derive(Debug, Clone, Copy)]
struct Moment {
    /// Milliseconds since the base of the ring, twice, and one more when the quality was good.
    at: u32,
    /// A double in two parts, so that nothing is lost between them; NaN for nothing.
    value: [u32; 2],
}

impl Moment {
    fn value(self) -> Option<f64> {
        let [high, low] = self.value;
        Some(f64::from_bits(u64::from(high) << 32 | u64::from(low))).filter(|value| !value.is_nan())
    }
}

/// One moment of a point.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, utoipa::ToSchema)]
pub struct RecentValue {
    /// Milliseconds since 1970 UTC.
    pub at: i64,
    /// The engineering value; `null` while it was bad, and for text.
    pub value: Option<f64>,
    /// Whether the quality was good.
    pub good: bool,
}

/// For all points that nobody looks at together: 12 bytes each, so 8 MB. Where that is less than [`LEAST`] for each, there are none.
const TOTAL: usize = 700_000;
/// Ten minutes at half a second.
const MOST: usize = 1200;
/// So many points are kept in full: 14 MB. Whoever looks at more of them loses those before.
const WATCHED: u32 = 1000;
const LEAST: usize = 8;
/// Moments are counted anew from here on, so that twice their milliseconds fit 32 bits.
const REBASE: i64 = 1 << 30;

impl RecentValues {
    /// Makes room for `points` points.
    pub fn grow(&self, points: usize) {
        let mut rings = self.rings.write();
        let points = points.max(rings.len());
        let more = points - rings.len();
        rings.reserve_exact(more);
        rings.resize_with(points, OnceBox::default);
    }

    /// Whoever has something to remember of several points.
    #[must_use]
    pub fn writer(&self) -> RecentWriter<'_> {
        let rings = self.rings.read();
        let usual = Some(TOTAL / rings.len().max(1)).filter(|usual| *usual >= LEAST).map(|usual| usual.min(MOST));
        RecentWriter { rings, usual, looks: self.looks.load(Ordering::Relaxed) }
    }

    /// What is remembered of a point, the oldest first. From then on more of it is kept.
    #[must_use]
    pub fn of(&self, point: PointIndex) -> Vec<RecentValue> {
        let rings = self.rings.read();
        let Some(ring) = rings.get(point.position()) else { return Vec::new() };
        let mut ring = ring.get_or_init(Box::default).lock();
        if !ring.is_watched(self.looks.load(Ordering::Relaxed)) {
            ring.looked = Some(self.looks.fetch_add(1, Ordering::Relaxed).wrapping_add(1));
        }
        ring.moments.iter().map(|moment| ring.recent(*moment)).collect()
    }

    /// The same, without keeping more of it from then on.
    #[must_use]
    pub fn peek(&self, point: PointIndex) -> Vec<RecentValue> {
        let rings = self.rings.read();
        let Some(ring) = rings.get(point.position()).and_then(OnceBox::get) else { return Vec::new() };
        let ring = ring.lock();
        ring.moments.iter().map(|moment| ring.recent(*moment)).collect()
    }

    /// Forgets what is remembered of a point.
    pub fn forget(&self, point: PointIndex) {
        let rings = self.rings.read();
        rings.get(point.position()).and_then(OnceBox::get).into_iter().for_each(|ring| ring.lock().moments.clear());
    }
}

/// Remembers what points say; nothing is resized meanwhile.
#[derive(Debug)]
pub struct RecentWriter<'a> {
    rings: RwLockReadGuard<'a, Vec<OnceBox<Mutex<Ring>>>>,
    /// How many moments of a point are kept that nobody looks at, if any.
    usual: Option<usize>,
    looks: u32,
}

impl RecentWriter<'_> {
    /// Remembers what a point says now; the oldest makes room.
    pub fn push(&self, point: PointIndex, at: Timestamp, value: Option<f64>, quality: Quality) {
        self.with_ring(point, |ring, capacity| ring.push(at.as_millis(), value, quality.is_good(), capacity));
    }

    /// Remembers what a point said at a time of its own, in its place among the others.
    pub fn insert(&self, point: PointIndex, at: Timestamp, value: Option<f64>, quality: Quality) {
        self.with_ring(point, |ring, capacity| ring.insert(at.as_millis(), value, quality.is_good(), capacity));
    }

    fn with_ring(&self, point: PointIndex, act: impl FnOnce(&mut Ring, usize)) {
        let place = self.rings.get(point.position());
        let ring =
            place.and_then(|ring| if self.usual.is_some() { Some(ring.get_or_init(Box::default)) } else { ring.get() });
        let Some(mut ring) = ring.map(|ring| ring.lock()) else { return };
        let capacity = if ring.is_watched(self.looks) { MOST } else { self.usual.unwrap_or(LEAST) };
        act(&mut ring, capacity);
    }
}

impl Ring {
    fn is_watched(&self, looks: u32) -> bool {
        self.looked.is_some_and(|looked| looks.wrapping_sub(looked) < WATCHED)
    }

    fn push(&mut self, at: i64, value: Option<f64>, is_good: bool, capacity: usize) {
        let since = at - self.base;
        if !(0..REBASE).contains(&since) {
            // The clock moved far: what was remembered before would stand at a wrong place.
            let (base, keep) = (self.base, at - REBASE / 2);
            let before = std::mem::take(&mut self.moments);
            self.base = keep;
            for moment in before {
                let moved = base + i64::from(moment.at >> 1) - keep;
                if let Some(moved) = u32::try_from(moved).ok().filter(|_| moved < REBASE) {
                    self.moments.push_back(Moment { at: moved << 1 | moment.at & 1, ..moment });
                }
            }
        }
        let moment = self.moment(at, value, is_good);
        self.make_room(capacity);
        self.moments.push_back(moment);
    }

    /// Puts a moment where its time belongs. One before all that is remembered stays out when there is no more room.
    fn insert(&mut self, at: i64, value: Option<f64>, is_good: bool, capacity: usize) {
        let newest = self.moments.back().map(|moment| self.recent(*moment).at);
        if newest.is_none_or(|newest| at >= newest) {
            return self.push(at, value, is_good, capacity);
        }
        let place = self.moments.iter().rposition(|moment| self.recent(*moment).at <= at).map_or(0, |place| place + 1);
        if at < self.base || (place == 0 && self.moments.len() >= capacity) {
            return;
        }
        let (moment, before) = (self.moment(at, value, is_good), self.moments.len());
        self.make_room(capacity);
        let gone = before - self.moments.len();
        self.moments.insert(place.saturating_sub(gone), moment);
    }

    fn moment(&self, at: i64, value: Option<f64>, is_good: bool) -> Moment {
        let since = u32::try_from(at - self.base).unwrap_or_default();
        let bits = value.unwrap_or(f64::NAN).to_bits();
        let half = |shift: u32| u32::try_from(bits >> shift & 0xFFFF_FFFF).unwrap_or_default();
        Moment { at: since << 1 | u32::from(is_good), value: [half(32), half(0)] }
    }

    fn make_room(&mut self, capacity: usize) {
        if self.moments.len() == self.moments.capacity() && self.moments.len() < capacity {
            let more = if self.moments.is_empty() { capacity.min(16) } else { self.moments.len() };
            self.moments.reserve_exact(more.min(capacity - self.moments.len()));
        }
        while self.moments.len() >= capacity {
            self.moments.pop_front();
        }
        // It was watched, and is not any more.
        if self.moments.capacity() > 2 * capacity.max(16) {
            self.moments.shrink_to(capacity);
        }
    }

    fn recent(&self, moment: Moment) -> RecentValue {
        RecentValue { at: self.base + i64::from(moment.at >> 1), value: moment.value(), good: moment.at & 1 == 1 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_very_many_points_only_those_are_remembered_that_somebody_looks_at() {
        let (recent, points, time) = (RecentValues::default(), TOTAL / LEAST, Timestamp::from_millis(5));
        let told = |point| {
            recent.writer().push(PointIndex(point), time, Some(1.0), Quality::Good);
            recent.peek(PointIndex(point)).len()
        };
        recent.grow(points);
        assert_eq!(told(0), 1);
        recent.grow(points + 1);
        assert_eq!((told(0), told(1)), (2, 0), "what is remembered goes on");
        assert!(recent.of(PointIndex(1)).is_empty());
        assert_eq!(told(1), 1);
    }

    #[test]
    fn whoever_looks_at_very_many_points_loses_those_before() {
        let (recent, time) = (RecentValues::default(), Timestamp::from_millis(5));
        recent.grow(80_000);
        let told = || {
            (0..100).for_each(|_| recent.writer().push(PointIndex(0), time, Some(1.0), Quality::Good));
            let capacity = recent.rings.read()[0].get().unwrap().lock().moments.capacity();
            (recent.peek(PointIndex(0)).len(), capacity)
        };
        let look = |point| drop(recent.of(PointIndex(point)));
        (0..5).for_each(|_| look(0));
        assert_eq!(told().0, 100);
        (1..WATCHED).for_each(look);
        assert_eq!(told().0, 200, "one of so many");
        look(WATCHED);
        let (kept, capacity) = told();
        assert!(kept == TOTAL / 80_000 && capacity <= 16, "{kept} {capacity}");
    }

    #[test]
    fn moments_come_back_as_they_went_in_over_days() {
        let mut ring = Ring::default();
        let start = 1_700_000_000_000;
        let day = 86_400_000;
        for n in 0..40 {
            ring.push(start + n * day / 2, (n % 3 != 0).then_some(0.1 + n as f64), n % 2 == 0, 10);
        }
        let recent: Vec<_> = ring.moments.iter().map(|moment| ring.recent(*moment)).collect();
        assert_eq!(recent.len(), 10);
        for (n, moment) in (30..40).zip(recent) {
            assert_eq!(moment.at, start + n * day / 2);
            assert_eq!((moment.value, moment.good), ((n % 3 != 0).then_some(0.1 + n as f64), n % 2 == 0));
        }
    }

    #[test]
    fn what_comes_late_stands_at_its_own_time() {
        let mut ring = Ring::default();
        let at = |ring: &Ring| ring.moments.iter().map(|moment| ring.recent(*moment).at).collect::<Vec<_>>();
        for second in [10, 20, 30] {
            ring.push(second, Some(1.0), true, 5);
        }
        for late in [15, 35, 5, 30] {
            ring.insert(late, Some(2.0), true, 5);
        }
        assert_eq!(at(&ring), [10, 15, 20, 30, 30, 35][1..], "the oldest made room");
        ring.insert(1, Some(3.0), true, 5);
        assert_eq!(at(&ring).len(), 5, "older than all that is remembered");
    }
}
