//! The ways that octets take to outstations.

use interlex_core::description::{Dnp3Link, Dnp3SerialLink, SerialParity};
use interlex_dnp3::Frame;
use serial2_tokio::rs4xx::{Rs485Config, TransceiverMode};
use serial2_tokio::{CharSize, Parity, SerialPort, Settings, StopBits};
use std::io;
use std::net::SocketAddr;
use tokio::net::{TcpStream, UdpSocket, lookup_host};
use tokio::time::timeout;

/// A way to outstations.
#[derive(Debug)]
pub(super) enum Way {
    Tcp(TcpStream),
    /// Datagrams of whole frames, to and from one address.
    Udp(UdpSocket),
    Serial(SerialPort),
}

impl Way {
    /// Connects, or opens the port.
    pub(super) async fn open(link: &Dnp3Link) -> Result<Self, String> {
        match link {
            Dnp3Link::Tcp(own) => {
                let connecting = TcpStream::connect((own.host.as_str(), own.port));
                let stream = timeout(own.connect_timeout.into(), connecting).await;
                let stream = stream.map_err(|_| format!("no connection within {}", own.connect_timeout))?;
                let stream = stream.map_err(|error| error.to_string())?;
                // A connection that sends late is one that works.
                let _ = stream.set_nodelay(true);
                Ok(Self::Tcp(stream))
            }
            Dnp3Link::Udp(own) => {
                let found = timeout(own.connect_timeout.into(), lookup_host((own.host.as_str(), own.port))).await;
                let found = found.map_err(|_| format!("{} was not found within {}", own.host, own.connect_timeout))?;
                let address = found.map_err(|error| error.to_string())?.next();
                let address = address.ok_or_else(|| format!("{} has no address", own.host))?;
                datagrams(address).await.map(Self::Udp).map_err(|error| error.to_string())
            }
            Dnp3Link::Serial(own) => open(own).map(Self::Serial).map_err(|error| error.to_string()),
        }
    }

    /// Reads what has come; can be dropped without a loss.
    pub(super) async fn read(&self, into: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => loop {
                stream.readable().await?;
                match stream.try_read(into) {
                    Ok(0) => return Err(closed()),
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    other => return other,
                }
            },
            Self::Udp(socket) => socket.recv(into).await,
            Self::Serial(port) => match port.read(into).await? {
                0 => Err(closed()),
                count => Ok(count),
            },
        }
    }

    /// Writes some of what is to go, at least one frame of datagrams; can be dropped without a loss.
    pub(super) async fn write(&self, octets: &[u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => loop {
                stream.writable().await?;
                match stream.try_write(octets) {
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    other => return other,
                }
            },
            Self::Udp(socket) => socket.send(octets.get(..first_frame(octets)).unwrap_or(octets)).await,
            Self::Serial(port) => port.write(octets).await,
        }
    }
}

fn closed() -> io::Error {
    io::Error::new(io::ErrorKind::UnexpectedEof, "the connection was closed")
}

/// How many octets the first frame has: what is to go are whole ones.
fn first_frame(octets: &[u8]) -> usize {
    Frame::size(octets).ok().flatten().unwrap_or(octets.len())
}

async fn datagrams(to: SocketAddr) -> io::Result<UdpSocket> {
    let any: SocketAddr = if to.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0; 8], 0).into() };
    let socket = UdpSocket::bind(any).await?;
    socket.connect(to).await?;
    Ok(socket)
}

fn open(link: &Dnp3SerialLink) -> io::Result<SerialPort> {
    let port = SerialPort::open(&link.device_path, |mut settings: Settings| {
        settings.set_raw();
        settings.set_baud_rate(link.baud)?;
        settings.set_char_size(CharSize::Bits8);
        settings.set_stop_bits(if link.stop_bits == 2 { StopBits::Two } else { StopBits::One });
        settings.set_parity(match link.parity {
            SerialParity::None => Parity::None,
            SerialParity::Even => Parity::Even,
            SerialParity::Odd => Parity::Odd,
        });
        Ok(settings)
    })?;
    if link.rs485_direction {
        port.set_rs4xx_mode(TransceiverMode::Rs485(Rs485Config::new())).map_err(|error| {
            io::Error::new(error.kind(), format!("the driver does not switch an RS-485 transceiver: {error}"))
        })?;
    }
    port.discard_buffers()?;
    Ok(port)
}
