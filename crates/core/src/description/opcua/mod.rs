//! What is described of OPC UA: links to servers, devices as parts of them, and nodes as points.

mod address;
mod device;
mod link;
mod point;
mod url;

pub use address::{OpcUaAddress, ParseOpcUaAddressError};
pub use device::OpcUaDevice;
pub(super) use link::AuthoritiesText;
pub use link::{AcceptedFault, AcceptedFaults, Fingerprint, ListenAddress, OpcUaLink, OpcUaSecurity};
pub(super) use point::point;
pub use point::{ElementRange, MethodArguments, OpcUaPoint, Watching};
pub use url::ServerUrl;
