use interlex_core::{PointIndex, Quality, Reading};
use parking_lot::{Mutex, RwLock};
use serde::Serialize;
use std::collections::VecDeque;

/// The last minutes of every point, in memory, for small plots.
#[derive(Debug, Default)]
pub struct RecentValues {
    /// Written to only when a revision brings new points.
    rings: RwLock<Vec<Mutex<VecDeque<RecentValue>>>>,
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

/// For all points together: 32 bytes each, so 64 MB.
const TOTAL: usize = 2_000_000;
/// Ten minutes at half a second.
const MOST: usize = 1200;
const LEAST: usize = 30;

impl RecentValues {
    /// Makes room for `points` points.
    pub(crate) fn grow(&self, points: usize) {
        let mut rings = self.rings.write();
        let points = points.max(rings.len());
        rings.resize_with(points, Mutex::default);
    }

    /// Remembers a reading; the oldest one makes room.
    pub(crate) fn push(&self, point: PointIndex, reading: &Reading) {
        let rings = self.rings.read();
        let Some(ring) = rings.get(point.position()) else { return };
        let capacity = (TOTAL / rings.len().max(1)).clamp(LEAST, MOST);
        let is_bad = reading.quality.is_bad();
        let value = reading.value.as_ref().filter(|_| !is_bad).and_then(interlex_core::Value::as_f64);
        let at = reading.gateway_time.as_millis();
        let mut ring = ring.lock();
        if ring.capacity() == 0 {
            ring.reserve_exact(capacity);
        }
        while ring.len() >= capacity {
            ring.pop_front();
        }
        ring.push_back(RecentValue { at, value, good: reading.quality == Quality::Good });
    }

    /// What is remembered of a point, the oldest first.
    #[must_use]
    pub fn of(&self, point: PointIndex) -> Vec<RecentValue> {
        self.rings.read().get(point.position()).map(|ring| ring.lock().iter().copied().collect()).unwrap_or_default()
    }

    /// Forgets what is remembered of a point.
    pub(crate) fn forget(&self, point: PointIndex) {
        self.rings.read().get(point.position()).into_iter().for_each(|ring| ring.lock().clear());
    }
}
