use super::block::{self, BlockError};
use crate::points::PointTable;
use interlex_core::{Sample, Timestamp};
use std::fmt::Debug;
use std::sync::Arc;

/// Something that waits for a broker, and that the journal can keep.
pub(super) trait Item: Clone + Debug {
    /// What is needed to write and read it.
    type Context: Debug;

    /// When it came.
    fn came(&self) -> Timestamp;

    /// The queue that it waits in: those of one queue go in order. `None` when it is of no use any more.
    fn lane(&self, context: &Self::Context) -> Option<usize>;

    /// Several as one block; all of them have a lane.
    fn encode(items: &[Self], context: &Self::Context) -> Vec<u8>;

    /// The items of a block; `None` stands for those that are of no use any more.
    fn decode(block: &[u8], context: &Self::Context) -> Result<Vec<Option<Self>>, BlockError>;
}

impl Item for Sample {
    type Context = Arc<PointTable>;

    fn came(&self) -> Timestamp {
        self.gateway_time
    }

    /// Its device.
    fn lane(&self, points: &Self::Context) -> Option<usize> {
        points.get(self.point).map(|info| info.device_slot)
    }

    fn encode(samples: &[Self], points: &Self::Context) -> Vec<u8> {
        block::encode(samples.iter(), points)
    }

    fn decode(block: &[u8], points: &Self::Context) -> Result<Vec<Option<Self>>, BlockError> {
        Ok(block::decode(block, points)?.into_iter().map(Result::ok).collect())
    }
}
