//! What is described of DNP3: links, outstations as devices, and their points.

mod address;
mod device;
mod link;
mod point;

pub use address::{Dnp3Address, Dnp3Kind, ParseDnp3AddressError};
pub(super) use device::shared_addresses;
pub use device::{Dnp3Confirm, Dnp3Device, Dnp3TimeSync};
pub use link::{Dnp3Link, Dnp3SerialLink, Dnp3TcpLink, Dnp3Timing, Dnp3TlsLink, Dnp3UdpLink};
pub(super) use point::point;
pub use point::{Dnp3ControlForm, Dnp3ControlMode, Dnp3Point};
