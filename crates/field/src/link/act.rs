use super::frames::FrameView;
use serde::{Deserialize, Serialize};

/// What a device can be told or asked once, beside its points.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DeviceAct {
    /// Whether it is there at all: nothing but its link layer answers.
    LinkStatus,
    /// Everything that it has, with its events.
    ReadEverything,
    /// Its counters are frozen: what they count now can be read later.
    FreezeCounters,
    /// The same, and they count from nothing on.
    FreezeAndClearCounters,
    /// It starts its program anew.
    WarmRestart,
    /// It starts anew as if it had been switched off.
    ColdRestart,
}

impl DeviceAct {
    /// Whether it changes something at the device.
    #[must_use]
    pub const fn changes(self) -> bool {
        !matches!(self, Self::LinkStatus | Self::ReadEverything)
    }
}

/// What a device said to that.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialAct {
    /// In words.
    pub said: String,
    /// How long the answer took.
    pub answer_ms: f64,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
}
