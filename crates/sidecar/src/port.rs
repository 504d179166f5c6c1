use std::io;
use std::net::{Ipv4Addr, TcpListener};

/// Whether nobody listens on a port of 127.0.0.1.
#[must_use]
pub fn is_port_free(port: u16) -> bool {
    TcpListener::bind((Ipv4Addr::LOCALHOST, port)).is_ok()
}

/// A port of 127.0.0.1 that was free a moment ago.
///
/// # Errors
/// When the system gives none.
pub fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}
