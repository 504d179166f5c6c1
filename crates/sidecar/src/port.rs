use std::io;
use std::net::{Ipv4Addr, TcpListener};
use std::sync::atomic::{AtomicU32, Ordering};

/// Whether nobody listens on a port of 127.0.0.1.
#[must_use]
pub fn is_port_free(port: u16) -> bool {
    TcpListener::bind((Ipv4Addr::LOCALHOST, port)).is_ok()
}

/// A loopback address that this process gives to nobody else, and that other processes do not take: a port given up there
/// for a moment is still free the next.
#[must_use]
pub fn own_address() -> Ipv4Addr {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let [_, _, high, low] = std::process::id().to_be_bytes();
    let [.., number] = NEXT.fetch_add(1, Ordering::Relaxed).wrapping_add(1).to_be_bytes();
    // 127.0.0.0/8 is loopback as a whole; 127.0.x.y is what others use.
    Ipv4Addr::new(127, 1 + high % 254, low, number.clamp(1, 254))
}

/// Below the ports that systems give to outgoing connections: one of those would take a port between its being found
/// free and its being listened on.
const FIRST: u32 = 15_000;
const COUNT: u32 = 15_000;

/// A port of 127.0.0.1 that was free a moment ago, and that this process gives to nobody else for a long time.
///
/// # Errors
/// When none is free.
pub fn free_port() -> io::Result<u16> {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    // Processes start at places of their own.
    let start = std::process::id().wrapping_mul(97);
    (0..COUNT)
        .map(|_| FIRST + start.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed)) % COUNT)
        .filter_map(|port| u16::try_from(port).ok())
        .find(|port| is_port_free(*port))
        .ok_or_else(|| io::ErrorKind::AddrInUse.into())
}
