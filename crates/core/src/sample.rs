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

/// What the time of a sample is worth, as far as the field says something of that.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum TimeQuality {
    /// Nothing is said of it.
    #[default]
    Unsaid,
    /// The clock of the device was set when it noted the time.
    Synchronized,
    /// The device says that its clock was not set.
    Unsynchronized,
    /// The device told none: it is when the change arrived.
    Arrival,
}

impl TimeQuality {
    /// All of them, each at the place of its number.
    pub const ALL: [Self; 4] = [Self::Unsaid, Self::Synchronized, Self::Unsynchronized, Self::Arrival];

    /// Its number in what is kept, the same in every version.
    #[must_use]
    pub const fn number(self) -> u8 {
        match self {
            Self::Unsaid => 0,
            Self::Synchronized => 1,
            Self::Unsynchronized => 2,
            Self::Arrival => 3,
        }
    }

    /// The one with a number.
    #[must_use]
    pub fn of_number(number: u8) -> Self {
        Self::ALL.into_iter().find(|known| known.number() == number).unwrap_or_default()
    }

    /// A word for people and hosts; none where nothing is said.
    #[must_use]
    pub const fn word(self) -> Option<&'static str> {
        match self {
            Self::Unsaid => None,
            Self::Synchronized => Some("synchronized"),
            Self::Unsynchronized => Some("unsynchronized"),
            Self::Arrival => Some("arrival"),
        }
    }
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
    /// What that time is worth.
    pub time_quality: TimeQuality,
    /// What it tells of.
    pub kind: SampleKind,
}

impl RawSample {
    /// The state of a point, just read.
    #[must_use]
    pub const fn read(point: PointIndex, value: Value) -> Self {
        let (quality, time_quality) = (Quality::Good, TimeQuality::Unsaid);
        Self { point, value: Some(value), quality, source_time: None, time_quality, kind: SampleKind::Current }
    }

    /// A point that gives no value.
    #[must_use]
    pub const fn failed(point: PointIndex, reason: Reason) -> Self {
        let (quality, time_quality) = (Quality::Bad(reason), TimeQuality::Unsaid);
        Self { point, value: None, quality, source_time: None, time_quality, kind: SampleKind::Current }
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
    /// What the field says of its time.
    pub time_quality: TimeQuality,
    /// What it tells of.
    pub kind: SampleKind,
}
