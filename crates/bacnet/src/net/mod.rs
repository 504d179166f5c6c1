//! Thin tokio drivers: the sockets of BACnet/IP, and devices that answer at an address.

mod bbmd;
mod host;
mod sockets;

pub use host::DeviceHost;
pub use sockets::{BindError, Sockets};
