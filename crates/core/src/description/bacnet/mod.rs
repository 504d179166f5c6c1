//! What is described of BACnet: links, devices, and their points.

mod address;
mod device;
mod link;
mod point;

pub use address::{BacnetAddress, ParseBacnetAddressError};
pub(super) use device::shared_instances;
pub use device::{BacnetDevice, BacnetTimeSync, ObjectPriority, ZoneName};
pub use link::{BacnetIpLink, HostPort};
pub use point::BacnetPoint;
pub(super) use point::point;
