//! The running gateway: link drivers, sample pipeline, uplinks, tap.
//!
//! ```text
//! device ⇄ link task ─ batch ─▶ Pipeline ─┬─▶ LatestTable ──▶ service (API, live stream)
//!           (one per link)                ├─▶ RecentValues
//!                                         └─▶ uplink task ──▶ broker ──▶ tap
//!                                             (one per uplink, with its buffer)
//! ```
//!
//! Between protocols and core stands one module per protocol: `modbus.rs`. What it leaves out: HTTP, people,
//! and where descriptions are stored.

mod activation;
mod aside;
mod broker_trial;
mod capture;
mod clock;
mod files;
mod gateway;
mod host_command;
mod identify;
mod lifetime;
mod line;
mod link;
mod meter;
mod modbus;
mod points;
mod recent;
mod report_preview;
mod scan;
mod status;
mod sunspec;
mod tap;
mod trial;
mod uplink;
mod write;

pub use activation::{LinkOutcome, Outcome, Progress, UplinkOutcome};
pub use aside::aside;
pub use broker_trial::{BrokerTrial, BrokerTrialStep, TrialMessage, try_broker};
pub use clock::wall_clock;
pub use files::allow_files_in;
pub use gateway::{Gateway, GatewayOptions, Running, WaitingLoss};
pub use identify::{IdentityObject, TrialIdentity, identify};
pub use link::{
    Bar, CountsView, DeviceCounts, ExceptionCount, FrameFilter, FrameView, HistogramView, LinkStatistics, RateView,
};
pub use meter::RateMeter;
pub use modbus::reason_words;
pub use points::{PointInfo, PointTable};
pub use recent::{RecentValue, RecentValues};
pub use report_preview::{ReportPreview, report_preview};
pub use scan::{Scan, ScanEvent};
pub use status::{
    BufferState, BufferView, DeviceState, DeviceStatus, Gap, GatewayStatus, LinkState, LinkStatus, PastMoment,
    RequestView, UplinkState, UplinkStatus,
};
pub use sunspec::{SunSpecModelView, SunSpecOffer, sunspec};
pub use tap::{Tap, TapError, TapMessage, TapMetric};
pub use trial::{TrialAlternative, TrialError, TrialRead, TrialReading};
pub use uplink::{Published, SentMessage, fill_templates_in, fill_templates_with, preview};
pub use write::{PointWrite, WriteError, WriteOutcome};
