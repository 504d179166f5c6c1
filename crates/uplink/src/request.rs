use crate::json::SentMessage;
use interlex_core::{BufferView, PointIndex, PointTable, Value};
use serde::Serialize;
use std::sync::Arc;
use tokio::sync::oneshot;

/// What people want of an uplink.
#[derive(Debug)]
pub enum UplinkRequest {
    /// To see its buffer.
    Buffer(oneshot::Sender<BufferView>),
    /// To throw away what waits; tells how many samples that were.
    Purge(oneshot::Sender<u64>),
    /// To see how many of the samples that wait would be lost with these points.
    WouldLose(Arc<PointTable>, oneshot::Sender<WouldLose>),
    /// To see what was published last of a point; from the first time on it is remembered.
    Published(PointIndex, oneshot::Sender<Option<Published>>),
    /// To tell everything anew; whether that is done.
    Births(oneshot::Sender<bool>),
    /// To see the last messages that were made from templates.
    Messages(oneshot::Sender<Vec<SentMessage>>),
}

/// Samples that another description would lose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WouldLose {
    /// So many for certain.
    pub certainly: u64,
    /// Of so many in the database only it is not known.
    pub perhaps: u64,
}

/// What was published of a point.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Published {
    /// When it was handed to the connection, in milliseconds since 1970 UTC.
    pub at: i64,
    /// The value; null when it has none.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// When the value arose.
    pub timestamp: i64,
    /// Whether it had waited.
    pub historical: bool,
}

/// Requests that may wait for an uplink that is busy.
pub const REQUEST_QUEUE: usize = 16;
