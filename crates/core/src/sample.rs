use crate::{Quality, Reason, Timestamp, Value};
use std::time::Instant;

/// The place of a point in its gateway's tables: dense, from zero, fixed as long as the revision runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PointIndex(pub u32);

impl PointIndex {
    /// The index as a position in a slice.
    #[must_use]
    pub const fn position(self) -> usize {
        // Lossless: Interlex runs on targets whose usize has at least 32 bits.
        self.0 as usize
    }
}

/// Now, by both clocks: spans are measured by the one that never leaps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment {
    /// The time of day.
    pub wall: Timestamp,
    /// The monotonic clock.
    pub instant: Instant,
}

/// What a sample tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SampleKind {
    /// The state when it was asked for.
    #[default]
    Current,
    /// A change, in the order in which the device told it: never filtered away.
    Event,
    /// Something that a memory of the device still had: never the newest.
    Past,
}

/// What a driver learned of one point.
#[derive(Debug, Clone, PartialEq)]
pub struct RawSample {
    /// Which point.
    pub point: PointIndex,
    /// The value before shaping, where there is one; it may come with a quality that is not good.
    pub value: Option<Value>,
    /// What the device, or the way to it, says of it.
    pub quality: Quality,
    /// The field's own time, where the protocol has one.
    pub source_time: Option<Timestamp>,
    /// What it tells of.
    pub kind: SampleKind,
}

impl RawSample {
    /// The state of a point, just read.
    #[must_use]
    pub const fn read(point: PointIndex, value: Value) -> Self {
        Self { point, value: Some(value), quality: Quality::Good, source_time: None, kind: SampleKind::Current }
    }

    /// A point that gives no value.
    #[must_use]
    pub const fn failed(point: PointIndex, reason: Reason) -> Self {
        let quality = Quality::Bad(reason);
        Self { point, value: None, quality, source_time: None, kind: SampleKind::Current }
    }
}

/// What one point said at one moment, in engineering units.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// Which point.
    pub point: PointIndex,
    /// The engineering value; `None` when there never was one.
    pub value: Option<Value>,
    /// How far to trust it.
    pub quality: Quality,
    /// The field's own time where the protocol has one, else the gateway's.
    pub source_time: Timestamp,
    /// When the gateway received it.
    pub gateway_time: Timestamp,
    /// What it tells of.
    pub kind: SampleKind,
}
