use super::message::SentMessage;
use crate::buffer::{BlockError, Item, PointNumbers};
use interlex_core::description::JsonUplink;
use interlex_core::{PointInfo, Timestamp};
use serde::{Deserialize, Serialize};

/// A message that waits for the broker.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Outbound {
    pub(super) topic: String,
    pub(super) payload: String,
    pub(super) qos: u8,
    pub(super) retain: bool,
    /// When it was made, in milliseconds since 1970 UTC.
    at: i64,
}

impl Outbound {
    pub(super) fn new(uplink: &JsonUplink, rendered: &SentMessage) -> Self {
        Self {
            topic: rendered.topic.clone(),
            payload: rendered.payload.clone(),
            qos: uplink.qos,
            retain: uplink.retain,
            at: rendered.at,
        }
    }
}

impl Item for Outbound {
    type Context = ();

    fn came(&self) -> Timestamp {
        Timestamp::from_millis(self.at)
    }

    fn bytes(&self) -> usize {
        size_of::<Self>() + 16 + self.topic.len() + self.payload.len()
    }

    fn lane(&self, (): &()) -> Option<usize> {
        Some(0)
    }

    fn points<'a>(_: &'a [Self], (): &'a ()) -> impl Iterator<Item = &'a PointInfo> + Send {
        std::iter::empty()
    }

    fn encode(messages: &[Self], (): &(), _: &PointNumbers) -> Vec<u8> {
        // Text and numbers always have a form in JSON.
        serde_json::to_vec(messages).unwrap_or_default()
    }

    fn decode(block: &[u8], (): &(), _: &PointNumbers) -> Result<Vec<Result<Self, Timestamp>>, BlockError> {
        let messages: Vec<Self> = serde_json::from_slice(block).map_err(|_| BlockError::Damaged)?;
        Ok(messages.into_iter().map(Ok).collect())
    }
}
