//! Uplinks: what becomes of reported samples on their way to a broker.

mod buffer;
mod journal;
mod metric;
mod mqtt;
mod sparkplug;

pub(crate) use metric::{data_type_of, snapshot_of};
pub(crate) use mqtt::{Connection, MqttEvent, options};
pub(crate) use sparkplug::{SparkplugTask, initial_status};

use interlex_core::Sample;
use std::sync::Arc;

/// What links tell uplinks.
#[derive(Debug, Clone)]
pub(crate) enum UplinkInput {
    /// Samples worth reporting, of one link, in time order.
    Samples(Arc<[Sample]>),
    /// A device answers; by its place in the description.
    DeviceUp(usize),
    /// A device is lost.
    DeviceDown(usize),
}

/// How many messages from links may wait for an uplink that is busy. Uplinks only compute and hand over, so a few
/// hundred cover a moment without the processor; when it is full, links wait.
pub(crate) const INPUT_QUEUE: usize = 512;
