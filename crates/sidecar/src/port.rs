use std::io;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

/// Whether nobody listens there.
#[must_use]
pub fn is_free(address: SocketAddr) -> bool {
    TcpListener::bind(address).is_ok()
}

/// Whether a program may listen there, or may in a moment: a child that is being started holds what its parent had open until it
/// becomes another program.
pub(crate) async fn becomes_free(address: SocketAddr) -> bool {
    for _ in 0..400 {
        if is_free(address) {
            return true;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    false
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

/// A port of an [`own_address`].
///
/// # Errors
/// When the system gives none.
pub fn own_socket() -> io::Result<SocketAddr> {
    TcpListener::bind((own_address(), 0))?.local_addr()
}
