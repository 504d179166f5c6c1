use std::fmt;
use std::net::SocketAddrV4;

/// The address of a device on its own network, of a few octets: one on MS/TP, six on BACnet/IP.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MacAddress {
    octets: [u8; Self::MOST],
    length: u8,
}

impl MacAddress {
    /// No network has longer ones.
    pub const MOST: usize = 8;

    /// An address; none where it is longer than any.
    #[must_use]
    pub fn new(octets: &[u8]) -> Option<Self> {
        let mut all = [0; Self::MOST];
        all.get_mut(..octets.len())?.copy_from_slice(octets);
        Some(Self { octets: all, length: u8::try_from(octets.len()).ok()? })
    }

    /// Its octets.
    #[must_use]
    pub fn octets(&self) -> &[u8] {
        self.octets.get(..usize::from(self.length)).unwrap_or_default()
    }
}

/// Hexadecimal digits.
impl fmt::Display for MacAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.octets().iter().try_for_each(|octet| write!(f, "{octet:02x}"))
    }
}

/// A device behind a router: its network, and its address there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Station {
    /// The number of the network, 1 to 65534.
    pub network: u16,
    /// The address of the device on it.
    pub mac: MacAddress,
}

/// Where a device is: at an address, or behind a router that is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Peer {
    /// Its own address, or that of the router.
    pub address: SocketAddrV4,
    /// Where it is behind that, if it is.
    pub station: Option<Station>,
}

impl From<SocketAddrV4> for Peer {
    fn from(address: SocketAddrV4) -> Self {
        Self { address, station: None }
    }
}

/// `10.0.0.5:47808`, `network 5 station 0c by 10.0.0.5:47808`
impl fmt::Display for Peer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.station {
            None => self.address.fmt(f),
            Some(Station { network, mac }) => write!(f, "network {network} station {mac} by {}", self.address),
        }
    }
}
