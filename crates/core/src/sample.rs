use crate::{Quality, Timestamp, Value};

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
}
