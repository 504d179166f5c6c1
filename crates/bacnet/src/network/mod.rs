//! What lies under messages of the application: BACnet/IP, and what routers read.

mod address;
mod bvll;
mod npdu;

pub use address::{MacAddress, Peer, Station};
pub use bvll::{Bvll, BvllResult, TableMessage};
pub use npdu::{Destination, NetworkMessage, Npdu, NpduContent};
