use nix::ifaddrs::{InterfaceAddress, getifaddrs};
use nix::net::if_::InterfaceFlags;
use std::net::Ipv4Addr;

/// An own address, and the one at which all of its network are reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Interface {
    pub(super) address: Ipv4Addr,
    pub(super) broadcast: Ipv4Addr,
}

fn addresses(interface: &InterfaceAddress) -> Option<(Ipv4Addr, Ipv4Addr)> {
    let address = interface.address.as_ref()?.as_sockaddr_in()?.ip();
    let mask = interface.netmask.as_ref()?.as_sockaddr_in()?.ip();
    Some((address, mask))
}

fn broadcast(address: Ipv4Addr, mask: Ipv4Addr) -> Ipv4Addr {
    Ipv4Addr::from(u32::from(address) | !u32::from(mask))
}

/// The interface of a name, or of an own address.
pub(super) fn find(wanted: &str) -> Result<Interface, String> {
    let interfaces: Vec<_> = getifaddrs().map_err(|error| format!("no interface can be found: {error}"))?.collect();
    let known: Vec<_> = interfaces.iter().filter_map(|of| Some((of, addresses(of)?))).collect();
    let Ok(address) = wanted.parse::<Ipv4Addr>() else {
        let found = known.iter().find(|(of, _)| of.interface_name == wanted);
        let (_, (address, mask)) = found.ok_or_else(|| unknown(wanted, &known))?;
        return Ok(Interface { address: *address, broadcast: broadcast(*address, *mask) });
    };
    if let Some((_, (_, mask))) = known.iter().find(|(_, (own, _))| *own == address) {
        return Ok(Interface { address, broadcast: broadcast(address, *mask) });
    }
    // Of the loopback interface, every address of its network is an own one.
    let is_loopback = |of: &&InterfaceAddress| of.flags.contains(InterfaceFlags::IFF_LOOPBACK);
    let loopback =
        known.iter().find(|(of, (own, mask))| is_loopback(of) && broadcast(*own, *mask) == broadcast(address, *mask));
    let (_, (_, mask)) = loopback.ok_or_else(|| unknown(wanted, &known))?;
    Ok(Interface { address, broadcast: broadcast(address, *mask) })
}

fn unknown(wanted: &str, known: &[(&InterfaceAddress, (Ipv4Addr, Ipv4Addr))]) -> String {
    let there: Vec<_> = known.iter().map(|(of, (address, _))| format!("{} {address}", of.interface_name)).collect();
    format!("there is no interface {wanted} here; there are {}", there.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn interfaces_are_found_by_name_and_by_address() {
        let all = Ipv4Addr::new(127, 255, 255, 255);
        let of = |last| Interface { address: Ipv4Addr::new(127, 0, 0, last), broadcast: all };
        assert_eq!((find("lo"), find("127.0.0.1"), find("127.0.0.9")), (Ok(of(1)), Ok(of(1)), Ok(of(9))));
        let error = find("203.0.113.77").unwrap_err();
        assert!(error.contains("no interface 203.0.113.77") && error.contains("lo 127.0.0.1"), "{error}");
    }
}
