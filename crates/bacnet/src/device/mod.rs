//! A device with its objects, without I/O.

mod faults;
mod machine;
mod object;
mod subscription;
mod trend_log;

pub use faults::{DeviceFaults, Writes};
pub use machine::{Device, DeviceConfig, Now};
pub use object::Object;
pub use trend_log::TrendLog;
