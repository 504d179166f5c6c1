use axum::http::HeaderMap;
use std::net::IpAddr;
use std::str::FromStr;

/// Addresses that begin alike, such as `10.0.0.0/8`, or a single one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AddressRange {
    address: IpAddr,
    bits: u32,
}

/// A text that is no [`AddressRange`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no address and no range of addresses, such as 10.0.0.5 or 10.0.0.0/8")]
pub struct ParseAddressRangeError(String);

impl AddressRange {
    /// Whether an address is one of them.
    #[must_use]
    pub fn holds(&self, address: IpAddr) -> bool {
        let same = |left: u128, right: u128, width: u32| self.bits == 0 || (left ^ right) >> (width - self.bits) == 0;
        match (self.address, address.to_canonical()) {
            (IpAddr::V4(own), IpAddr::V4(other)) => same(own.to_bits().into(), other.to_bits().into(), 32),
            (IpAddr::V6(own), IpAddr::V6(other)) => same(own.to_bits(), other.to_bits(), 128),
            _ => false,
        }
    }
}

impl FromStr for AddressRange {
    type Err = ParseAddressRangeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = || ParseAddressRangeError(text.to_owned());
        let (address, bits) = text.trim().split_once('/').map_or((text.trim(), None), |(a, b)| (a, Some(b)));
        let address: IpAddr = address.parse().map_err(|_| error())?;
        let width = if address.is_ipv4() { 32 } else { 128 };
        let bits = bits.map_or(Ok(width), |bits| bits.parse().map_err(|_| error()))?;
        if bits > width { Err(error()) } else { Ok(Self { address, bits }) }
    }
}

/// Whether an address is that of a trusted proxy.
pub(crate) fn is_trusted(address: IpAddr, trusted: &[AddressRange]) -> bool {
    trusted.iter().any(|range| range.holds(address))
}

/// Where a request comes from: the peer, or whom a trusted proxy names. Proxies append to the list, so the last address
/// that is none of theirs is the one that the first of them saw.
pub(crate) fn origin(peer: IpAddr, headers: &HeaderMap, trusted: &[AddressRange]) -> IpAddr {
    let is_trusted = |address: IpAddr| is_trusted(address, trusted);
    if !is_trusted(peer) {
        return peer;
    }
    let lines = headers.get_all("x-forwarded-for").iter().filter_map(|line| line.to_str().ok());
    let named: Vec<IpAddr> =
        lines.flat_map(|line| line.split(',')).map_while(|text| text.trim().parse().ok()).collect();
    named.into_iter().rev().find(|address| !is_trusted(*address)).unwrap_or(peer)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_trusted_proxies_say_where_a_request_comes_from() {
        let mut headers = HeaderMap::new();
        headers.append("x-forwarded-for", "1.2.3.4, 192.0.2.7".parse().unwrap());
        headers.append("x-forwarded-for", "10.0.0.9".parse().unwrap());
        let trusted: Vec<AddressRange> = ["10.0.0.0/8", "::1"].map(|text| text.parse().unwrap()).into();
        let origin = |peer: &str| origin(peer.parse().unwrap(), &headers, &trusted).to_string();
        assert_eq!(origin("198.51.100.1"), "198.51.100.1");
        assert_eq!(origin("10.1.1.1"), "192.0.2.7", "what stands before it may be made up");
        assert_eq!(origin("::1"), "192.0.2.7");
        for wrong in ["", "10.0.0.0/33", "10.0.0/8", "host"] {
            assert!(wrong.parse::<AddressRange>().is_err(), "{wrong}");
        }
    }
}
