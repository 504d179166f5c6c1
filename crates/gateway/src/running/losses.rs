use super::Running;
use crate::aside;
use interlex_core::description::Description;
use interlex_core::{PointInfo, PointTable, UplinkState};
use interlex_uplink::UplinkRequest;
use std::sync::Arc;
use tokio::sync::oneshot;

/// Samples that wait for the broker of an uplink, and that an activation would lose.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, utoipa::ToSchema)]
pub struct WaitingLoss {
    /// The uplink.
    pub uplink: String,
    /// How many.
    pub samples: u64,
    /// Of so many more it is not known, since they are in the database only.
    pub perhaps: u64,
    /// Whether the uplink is online, so that they are being sent.
    pub is_online: bool,
}

impl std::fmt::Display for WaitingLoss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { uplink, samples, perhaps, .. } = self;
        match (samples, perhaps) {
            (1, 0) => write!(f, "1 sample that waits at uplink {uplink} would be lost"),
            (samples, 0) => write!(f, "{samples} samples that wait at uplink {uplink} would be lost"),
            (0, perhaps) => write!(f, "some of {perhaps} samples that wait at uplink {uplink} may be lost"),
            (samples, perhaps) => {
                write!(f, "{samples} samples that wait at uplink {uplink}, and some of {perhaps} more, would be lost")
            }
        }
    }
}

impl Running {
    /// The samples that wait for brokers and that a description in the place of the running one would lose, since their
    /// uplinks or points are not in it.
    pub async fn would_lose(&self, description: &Description) -> Vec<WaitingLoss> {
        let points = Arc::new(aside(|| PointTable::new(description, self.points())));
        let is_gone = |info: &PointInfo| points.get(info.index).is_none();
        let removes_points = self.points().all().iter().any(is_gone);
        let mut losses = Vec::new();
        for uplink in self.uplinks() {
            let status = uplink.status(self.clock().now());
            let is_online = status.state == UplinkState::Online;
            let loss = |samples, perhaps| WaitingLoss { uplink: status.name.clone(), samples, perhaps, is_online };
            if !description.uplinks.iter().any(|other| other.settings.name.as_str() == status.name) {
                losses.push(loss(status.buffer.waiting, 0));
            } else if removes_points {
                let (answer, answered) = oneshot::channel();
                if uplink.requests.send(UplinkRequest::WouldLose(Arc::clone(&points), answer)).await.is_ok()
                    && let Ok(told) = answered.await
                {
                    losses.push(loss(told.certainly, told.perhaps));
                }
            }
        }
        losses.retain(|loss| loss.samples + loss.perhaps > 0);
        losses
    }
}
