use super::Lifetimes;
use crate::running::Running;
use arc_swap::ArcSwap;
use interlex_core::{CommandValue, PointInfo, Timestamp};
use interlex_field::{WriteError, WriteOutcome};
use std::sync::Arc;

/// The way of commands to the points of whatever runs: one after the other for each point, each for its lifetime.
#[derive(Debug, Clone)]
pub struct Commands {
    running: Arc<ArcSwap<Running>>,
    lifetimes: Lifetimes,
}

impl Commands {
    pub(crate) const fn new(running: Arc<ArcSwap<Running>>, lifetimes: Lifetimes) -> Self {
        Self { running, lifetimes }
    }

    pub(super) fn running(&self) -> Arc<Running> {
        self.running.load_full()
    }

    /// Writes safe values when they are due, for as long as the gateway is there.
    pub(crate) fn watch_lifetimes(&self) {
        self.lifetimes.watch(&self.running);
    }

    /// Until when the commanded value of a point holds, in milliseconds since 1970 UTC; `None` when it holds for good.
    #[must_use]
    pub fn commanded_until(&self, info: &PointInfo) -> Option<i64> {
        info.settings().lifetime?;
        self.lifetimes.until(info.device(), info.name()).map(Timestamp::as_millis)
    }

    /// Writes an engineering value to a point of the running description, or gives it back. A value holds for the lifetime of the
    /// point, where that has one.
    ///
    /// # Errors
    /// `None` when there is no such point; else [`WriteError`].
    pub async fn write(
        &self,
        device: &str,
        point: &str,
        value: impl Into<CommandValue>,
    ) -> Option<Result<WriteOutcome, WriteError>> {
        let (running, value) = (self.running(), value.into());
        let info = running.points().find(device, point)?;
        let _order = self.lifetimes.order(device, point).await;
        let before = self.lifetimes.held(device, point);
        self.lifetimes.begin(device, info, &value).await;
        let outcome = running.write(device, point, value, None).await;
        let is_refused =
            matches!(outcome, Some(Err(WriteError::Refused(_) | WriteError::Value(_) | WriteError::Trial(_))));
        // A device that gave no answer may have taken the value all the same: of two moments, the one that is there.
        let is_unknown = matches!(outcome, Some(Err(WriteError::Unknown { .. })));
        if is_refused || (is_unknown && self.lifetimes.until(device, point).is_none()) {
            self.lifetimes.restore(device, point, before).await;
        }
        outcome
    }
}
