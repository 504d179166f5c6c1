use super::block::{self, BlockError};
use interlex_core::{PointTable, Sample, Timestamp, Value};
use std::fmt::Debug;
use std::sync::Arc;

/// Something that waits for a broker, and that the journal can keep.
pub(crate) trait Item: Clone + Debug {
    /// What is needed to write and read it.
    type Context: Debug + Send + Sync;

    /// When it came.
    fn came(&self) -> Timestamp;

    /// About how many bytes of memory it takes while it waits.
    fn bytes(&self) -> usize;

    /// The queue that it waits in: those of one queue go in order. `None` when it is of no use any more.
    fn lane(&self, context: &Self::Context) -> Option<usize>;

    /// Several as one block; all of them have a lane.
    fn encode(items: &[Self], context: &Self::Context) -> Vec<u8>;

    /// The items of a block; of those that are of no use any more, when they came.
    fn decode(block: &[u8], context: &Self::Context) -> Result<Vec<Result<Self, Timestamp>>, BlockError>;
}

impl Item for Sample {
    type Context = Arc<PointTable>;

    fn came(&self) -> Timestamp {
        self.gateway_time
    }

    fn bytes(&self) -> usize {
        // With its number and lane.
        size_of::<Self>() + 16 + if let Some(Value::Text(text)) = &self.value { text.len() } else { 0 }
    }

    /// Its device.
    fn lane(&self, points: &Self::Context) -> Option<usize> {
        points.get(self.point).map(|info| info.device_slot)
    }

    fn encode(samples: &[Self], points: &Self::Context) -> Vec<u8> {
        block::encode(samples.iter(), points)
    }

    fn decode(block: &[u8], points: &Self::Context) -> Result<Vec<Result<Self, Timestamp>>, BlockError> {
        let samples = block::decode(block, points)?.into_iter();
        Ok(samples.map(|sample| sample.map_err(|unknown| unknown.came)).collect())
    }
}
