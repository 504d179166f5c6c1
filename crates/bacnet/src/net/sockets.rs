use crate::node::{Target, Via};
use socket2::{Domain, Protocol, SockRef, Socket, Type};
use std::io;
use std::net::{Ipv4Addr, SocketAddrV4};
use tokio::net::UdpSocket;

/// The two sockets of BACnet/IP at one address and port.
///
/// Everything is sent by the first one. It shares its address with nobody: whoever bound it too would get some of the answers. The
/// kernel gives it no broadcasts, since it is bound to an address of its own: those come to the second one, which is bound to the
/// broadcast address and shared by whoever listens there.
#[derive(Debug)]
pub struct Sockets {
    local: SocketAddrV4,
    broadcast: SocketAddrV4,
    unicast: UdpSocket,
    heard: Option<UdpSocket>,
}

/// No datagram of BACnet/IP is longer; one more octet tells those that are.
const LARGEST: usize = 1497 + 1;
/// Devices may all answer at once.
const RECEIVE_BYTES: usize = 4 << 20;

fn socket(at: SocketAddrV4, is_shared: bool) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM.nonblocking().cloexec(), Some(Protocol::UDP))?;
    socket.set_broadcast(true)?;
    socket.set_reuse_address(is_shared)?;
    // As much as the system allows.
    socket.set_recv_buffer_size(RECEIVE_BYTES)?;
    socket.bind(&at.into())?;
    UdpSocket::from_std(socket.into())
}

/// Why there are no sockets.
#[derive(Debug, thiserror::Error)]
pub enum BindError {
    /// The own address and port cannot be had.
    #[error("{at} cannot be bound: {source}")]
    Own {
        /// Which.
        at: SocketAddrV4,
        /// Why.
        source: io::Error,
    },
    /// Broadcasts cannot be heard.
    #[error("broadcasts to {at} cannot be heard: {source}")]
    Broadcast {
        /// Where.
        at: SocketAddrV4,
        /// Why.
        source: io::Error,
    },
}

impl Sockets {
    /// Binds both. Where broadcasts go to an address that is the own one, or is nobody's, they are sent and not heard.
    ///
    /// # Errors
    /// [`BindError`]
    pub fn bind(local: SocketAddrV4, broadcast: Ipv4Addr, hears: bool) -> Result<Self, BindError> {
        let broadcast = SocketAddrV4::new(broadcast, local.port());
        let unicast = socket(local, false).map_err(|source| BindError::Own { at: local, source })?;
        let heard = hears && broadcast.ip() != local.ip() && !local.ip().is_unspecified();
        let heard = heard.then(|| socket(broadcast, true)).transpose();
        let heard = heard.map_err(|source| BindError::Broadcast { at: broadcast, source })?;
        Ok(Self { local, broadcast, unicast, heard })
    }

    /// The own address and port.
    #[must_use]
    pub const fn local(&self) -> SocketAddrV4 {
        self.local
    }

    /// Sends a datagram, or loses it where there is no room: as a network does.
    ///
    /// # Errors
    /// When the socket refuses it.
    pub fn send(&self, to: Target, datagram: &[u8]) -> io::Result<()> {
        let to = match to {
            Target::Address(address) => address,
            Target::Broadcast => self.broadcast,
        };
        // A socket that was opened a moment ago takes something even where nobody was told yet that it does.
        match SockRef::from(&self.unicast).send_to(datagram, &to.into()) {
            Err(error) if error.kind() != io::ErrorKind::WouldBlock => Err(error),
            _ => Ok(()),
        }
    }

    /// Waits until something may be there.
    ///
    /// # Errors
    /// When a socket fails.
    pub async fn readable(&self) -> io::Result<()> {
        match &self.heard {
            None => self.unicast.readable().await,
            Some(heard) => tokio::select! {
                ready = self.unicast.readable() => ready,
                ready = heard.readable() => ready,
            },
        }
    }

    /// The next datagram, where there is one; what came from ourselves is passed over.
    pub fn try_receive(&self, buffer: &mut [u8; LARGEST]) -> Option<(Via, SocketAddrV4, usize)> {
        let sockets = [Some((Via::Unicast, &self.unicast)), self.heard.as_ref().map(|heard| (Via::Broadcast, heard))];
        for (via, socket) in sockets.into_iter().flatten() {
            loop {
                match socket.try_recv_from(buffer) {
                    Ok((_, std::net::SocketAddr::V4(from))) if from == self.local => {}
                    Ok((length, std::net::SocketAddr::V4(from))) => return Some((via, from, length)),
                    Ok(_) => {}
                    // Somebody to whom we sent is not there: others are.
                    Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => {}
                    Err(_) => break,
                }
            }
        }
        None
    }

    /// Room for a datagram.
    #[must_use]
    pub const fn buffer() -> [u8; LARGEST] {
        [0; LARGEST]
    }
}
