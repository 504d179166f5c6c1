//! How links and uplinks are, as everybody is shown it: plain data that takes the time from outside.

mod link;
mod meter;
mod shared;
mod uplink;

pub use link::{DeviceState, DeviceStatus, LinkState, LinkStatus};
pub use meter::RateMeter;
pub use shared::Shared;
pub use uplink::{BufferState, BufferView, Gap, PastMoment, UplinkState, UplinkStatus};
