use crate::{Client, ClientConfig, ClientStats, Event, FrameError, ReadData, ReadRequest, RequestError};
use std::io;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout, timeout_at};

/// A connection to a Modbus TCP device: the [`Client`] machine on a tokio socket.
#[derive(Debug)]
pub struct TcpClient {
    stream: TcpStream,
    machine: Client,
    outgoing: Vec<u8>,
    incoming: Box<[u8; READ_BYTES]>,
}

/// Enough for four of the largest answers, so that one read takes in what one packet brought.
const READ_BYTES: usize = 1024;

/// Why a read over TCP brought no data.
#[derive(Debug, thiserror::Error)]
pub enum TcpClientError {
    /// The request failed; the connection is fine.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// The device sends something that is not Modbus TCP; connect again.
    #[error("the stream is not Modbus TCP: {0}")]
    Stream(#[from] FrameError),
    /// The connection is gone; connect again.
    #[error("connection lost: {0}")]
    Connection(#[from] io::Error),
}

impl TcpClient {
    /// Connects, waiting `connect_timeout` at most.
    ///
    /// # Errors
    /// What the operating system says, or [`io::ErrorKind::TimedOut`].
    pub async fn connect(host: &str, port: u16, connect_timeout: Duration, config: ClientConfig) -> io::Result<Self> {
        let connecting = timeout(connect_timeout, TcpStream::connect((host, port)));
        let stream = connecting.await.map_err(|_| {
            io::Error::new(io::ErrorKind::TimedOut, format!("no connection within {connect_timeout:?}"))
        })??;
        // Requests are small and each waits for its answer: holding them back would only delay it.
        stream.set_nodelay(true)?;
        Ok(Self { stream, machine: Client::new(config), outgoing: Vec::new(), incoming: Box::new([0; READ_BYTES]) })
    }

    /// Reads once.
    ///
    /// # Errors
    /// [`TcpClientError`]; after its `Stream` and `Connection` variants the client is of no more use.
    pub async fn read(&mut self, unit: u8, request: ReadRequest) -> Result<ReadData, TcpClientError> {
        let now = Instant::now().into_std();
        if self.machine.request(now, unit, request).is_err() {
            // The caller dropped an earlier read half way; its answer will be unmatched and dropped.
            self.machine.reset();
            let again = self.machine.request(now, unit, request);
            debug_assert!(again.is_ok(), "a reset client takes a request");
        }
        self.outgoing.clear();
        if self.machine.poll_transmit(now, &mut self.outgoing) {
            self.stream.write_all(&self.outgoing).await?;
        }
        loop {
            match self.machine.poll_event() {
                Some(Event::Done(_, result)) => return Ok(result?),
                Some(Event::Broken(error)) => return Err(error.into()),
                None => self.wait().await?,
            }
        }
    }

    /// Waits for bytes or for the deadline, whichever comes first.
    async fn wait(&mut self) -> io::Result<()> {
        let incoming = self.stream.read(&mut self.incoming[..]);
        let length = match self.machine.poll_timeout() {
            Some(deadline) => match timeout_at(deadline.into(), incoming).await {
                Ok(length) => length?,
                Err(_) => {
                    self.machine.handle_timeout(Instant::now().into_std());
                    return Ok(());
                }
            },
            None => incoming.await?,
        };
        if length == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "closed by the device"));
        }
        self.machine.handle_input(self.incoming.get(..length).unwrap_or_default());
        Ok(())
    }

    /// What it counted on this connection.
    #[must_use]
    pub const fn stats(&self) -> ClientStats {
        self.machine.stats()
    }
}
