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

mod clock;
mod gateway;
mod link;
mod meter;
mod modbus;
mod plan;
mod points;
mod recent;
mod status;
mod tap;
mod uplink;

pub use clock::wall_clock;
pub use gateway::{Gateway, GatewayOptions};
pub use meter::RateMeter;
pub use modbus::reason_words;
pub use plan::{Block, PlanLimits, plan, split};
pub use points::{PointInfo, PointTable};
pub use recent::{RecentValue, RecentValues};
pub use status::{DeviceState, DeviceStatus, GatewayStatus, LinkState, LinkStatus, UplinkState, UplinkStatus};
pub use tap::{Tap, TapError, TapMessage, TapMetric};
