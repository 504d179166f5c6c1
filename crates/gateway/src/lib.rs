//! One running gateway: its links and uplinks, what changes them, and what is asked of them.
//!
//! ```text
//!   description ─▶ activation ─▶ Running ─┬─ links (interlex-field)    ─▶ samples, events ─┐
//!                                         └─ uplinks (interlex-uplink) ◀───────────────────┘
//!   people, brokers, lifetimes ─▶ Commands ─▶ links          commission: what is tried before it runs
//! ```
//!
//! Rooms, each importing from those behind it only: `activation`, `command`, `commission` → `running`. What it leaves out:
//! HTTP, people, and where descriptions are stored.

mod activation;
mod clock;
mod command;
mod commission;
mod gateway;
mod running;

pub use activation::{LinkOutcome, Outcome, Progress, UplinkOutcome};
pub use clock::{SystemClock, wall_clock};
pub use command::Commands;
pub use commission::{
    BrokerTrial, BrokerTrialStep, ReportPreview, TrialMessage, act, ask_for_offers, identify, preview, report_preview,
    try_broker, try_read, try_write, via,
};
pub use gateway::{Gateway, GatewayOptions};
pub use interlex_busy::aside;
pub use running::{GatewayStatus, Running, WaitingLoss};

pub use interlex_core::{
    BufferState, BufferView, DeviceState, DeviceStatus, Gap, LinkState, LinkStatus, PastMoment, PointInfo, PointTable,
    RateMeter, RecentValue, RecentValues, UplinkState, UplinkStatus,
};
pub use interlex_field::{
    Bar, CountsView, DeviceAct, DeviceCounts, EdeList, FrameFilter, FrameView, HistogramView, IdentityObject,
    LinkStatistics, Memories, OfferRequest, OfferSource, Offering, OwnCertificateFiles, OwnCertificateView,
    OwnIdentity, PointWrite, RateView, RefusalCount, Relinquish, RequestView, Said, TrialAct, TrialAlternative,
    TrialError, TrialIdentity, TrialRead, TrialReading, Via, WriteError, WriteOutcome, ede_list, reason_words, sources,
};
pub use interlex_uplink::{
    Published, SentMessage, Tap, TapError, TapMessage, TapMetric, allow_files_in, fill_templates_in,
    fill_templates_with,
};
