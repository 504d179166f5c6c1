use super::block::{self, BlockError};
use super::numbers::PointNumbers;
use interlex_core::{PointInfo, PointTable, Sample, Timestamp, Value};
use std::fmt::Debug;
use std::sync::Arc;

/// Something that waits for a broker, and that the journal can keep.
pub(crate) trait Item: Clone + Debug + Send + Sync + 'static {
    /// What is needed to write and read it.
    type Context: Clone + Debug + Send + Sync + 'static;

    /// When it came.
    fn came(&self) -> Timestamp;

    /// About how many bytes of memory it takes while it waits.
    fn bytes(&self) -> usize;

    /// The queue that it waits in: those of one queue go in order. `None` when it is of no use any more.
    fn lane(&self, context: &Self::Context) -> Option<usize>;

    /// The points that a block of these names by their numbers.
    fn points<'a>(items: &'a [Self], context: &'a Self::Context) -> impl Iterator<Item = &'a PointInfo> + Send;

    /// Several as one block; all of them have a lane, and their points have numbers.
    fn encode(items: &[Self], context: &Self::Context, numbers: &PointNumbers) -> Vec<u8>;

    /// The items of a block; of those that are of no use any more, when they came.
    fn decode(
        block: &[u8],
        context: &Self::Context,
        numbers: &PointNumbers,
    ) -> Result<Vec<Result<Self, Timestamp>>, BlockError>;
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

    /// Its device. A value of a type that its point has no more is of no use.
    fn lane(&self, points: &Self::Context) -> Option<usize> {
        let info = points.get(self.point)?;
        let is_of_type = |value: &Value| info.value_type().is_some_and(|known| value.is_of(known));
        let fits = self.value.as_ref().is_none_or(is_of_type);
        fits.then_some(info.device_slot())
    }

    fn points<'a>(samples: &'a [Self], points: &'a Self::Context) -> impl Iterator<Item = &'a PointInfo> + Send {
        samples.iter().filter_map(|sample| points.get(sample.point))
    }

    fn encode(samples: &[Self], points: &Self::Context, numbers: &PointNumbers) -> Vec<u8> {
        block::encode(samples, points, numbers)
    }

    fn decode(
        block: &[u8],
        points: &Self::Context,
        numbers: &PointNumbers,
    ) -> Result<Vec<Result<Self, Timestamp>>, BlockError> {
        let samples = block::decode(block, points, numbers)?.into_iter();
        Ok(samples.map(|sample| sample.map_err(|unknown| unknown.came)).collect())
    }
}
