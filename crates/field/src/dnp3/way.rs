//! The ways that octets take to outstations.

use super::tls::Tls;
use interlex_core::description::{Dnp3Link, Dnp3SerialLink, Dnp3TcpLink, Dnp3UdpLink, SerialParity};
use interlex_dnp3::Frame;
use serial2_tokio::rs4xx::{Rs485Config, TransceiverMode};
use serial2_tokio::{CharSize, Parity, SerialPort, Settings, StopBits};
use std::future::poll_fn;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UdpSocket, lookup_host};
use tokio::time::timeout;

/// A way to outstations.
pub(super) enum Way {
    /// A connection, or a serial line.
    Stream(Box<dyn Octets>),
    /// Datagrams of whole frames, to and from one address.
    Datagrams(UdpSocket),
}

/// Octets that come and go in their order.
pub(super) trait Octets: AsyncRead + AsyncWrite + Unpin + Send {}

impl<T: AsyncRead + AsyncWrite + Unpin + Send> Octets for T {}

impl Way {
    /// Connects, or opens the port. With TLS, tells what the certificate of the other side says.
    pub(super) async fn open(link: &Dnp3Link) -> Result<(Self, Option<Tls>), String> {
        match link {
            Dnp3Link::Tcp(own) => dial(own).await.map(|stream| (Self::Stream(Box::new(stream)), None)),
            Dnp3Link::Tls(own) => {
                let stream = dial(&own.tcp).await?;
                let (stream, tls) = super::tls::connect(own, stream).await?;
                Ok((Self::Stream(Box::new(stream)), Some(tls)))
            }
            Dnp3Link::Udp(own) => datagrams(own).await.map(|socket| (Self::Datagrams(socket), None)),
            Dnp3Link::Serial(own) => {
                let port = open(own).map_err(|error| error.to_string())?;
                Ok((Self::Stream(Box::new(port)), None))
            }
        }
    }

    /// Reads what has come.
    pub(super) fn poll_read(&mut self, context: &mut Context<'_>, into: &mut [u8]) -> Poll<io::Result<usize>> {
        let mut buffer = ReadBuf::new(into);
        match self {
            Self::Stream(stream) => {
                ready!(Pin::new(stream).poll_read(context, &mut buffer))?;
                if buffer.filled().is_empty() {
                    return Poll::Ready(Err(closed()));
                }
            }
            Self::Datagrams(socket) => ready!(socket.poll_recv(context, &mut buffer))?,
        }
        Poll::Ready(Ok(buffer.filled().len()))
    }

    /// Writes some of what is to go, at least one frame of datagrams.
    pub(super) fn poll_write(&mut self, context: &mut Context<'_>, octets: &[u8]) -> Poll<io::Result<usize>> {
        match self {
            Self::Stream(stream) => Pin::new(stream).poll_write(context, octets),
            Self::Datagrams(socket) => socket.poll_send(context, octets.get(..first_frame(octets)).unwrap_or(octets)),
        }
    }

    /// Sees to it that what was written goes.
    pub(super) fn poll_flush(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self {
            Self::Stream(stream) => Pin::new(stream).poll_flush(context),
            Self::Datagrams(_) => Poll::Ready(Ok(())),
        }
    }

    /// Ends it in order, as far as that can be done at once.
    pub(super) async fn close(mut self) {
        if let Self::Stream(stream) = &mut self {
            let closing = poll_fn(|context| Pin::new(&mut *stream).poll_shutdown(context));
            // Whoever does not take part in that finds out by itself.
            _ = timeout(std::time::Duration::from_millis(100), closing).await;
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

async fn dial(link: &Dnp3TcpLink) -> Result<TcpStream, String> {
    let host = link.host.as_deref().ok_or("nobody is dialled: outstations dial in")?;
    let stream = timeout(link.timing.connect_timeout.into(), TcpStream::connect((host, link.port))).await;
    let stream = stream.map_err(|_| format!("no connection within {}", link.timing.connect_timeout))?;
    let stream = stream.map_err(|error| error.to_string())?;
    // A connection that sends late is one that works.
    let _ = stream.set_nodelay(true);
    Ok(stream)
}

async fn datagrams(link: &Dnp3UdpLink) -> Result<UdpSocket, String> {
    let found = timeout(link.timing.connect_timeout.into(), lookup_host((link.host.as_str(), link.port))).await;
    let found = found.map_err(|_| format!("{} was not found within {}", link.host, link.timing.connect_timeout))?;
    let to = found.map_err(|error| error.to_string())?.next();
    let to = to.ok_or_else(|| format!("{} has no address", link.host))?;
    let port = link.local_port.unwrap_or(0);
    let any: SocketAddr = if to.is_ipv4() { ([0, 0, 0, 0], port).into() } else { ([0; 8], port).into() };
    let socket = UdpSocket::bind(any).await.map_err(|error| format!("the own port {port}: {error}"))?;
    socket.connect(to).await.map_err(|error| error.to_string())?;
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
