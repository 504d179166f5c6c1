use crate::{
    Busy, Client, ClientConfig, ClientStats, Event, FrameError, OwedAnswers, Request, RequestError, RequestId,
    Response, SerialSettings, TracedFrame,
};
use std::future::poll_fn;
use std::io;
use std::pin::Pin;
use std::task::{Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::time::{Instant, sleep_until, timeout};

/// What carries the bytes: a socket, a serial port, or one half of a pair in a test.
pub trait Wire: AsyncRead + AsyncWrite + Send + Sync + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Sync + Unpin> Wire for T {}

/// The way to a device or to a line of devices: the [`Client`] machine on a tokio stream.
pub struct Connection {
    wire: Box<dyn Wire>,
    machine: Client,
    /// What is still to be written.
    outgoing: Vec<u8>,
    incoming: Box<[u8; READ_BYTES]>,
}

/// Enough for four of the largest answers, so that one read takes in what one packet brought.
const READ_BYTES: usize = 1024;

/// Why a request brought nothing.
#[derive(Debug, thiserror::Error)]
pub enum ConnectionError {
    /// The request failed; the connection is fine.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// The device sends something that no device may; connect again.
    #[error("what comes is not Modbus: {0}")]
    Stream(#[from] FrameError),
    /// The connection is gone; connect again.
    #[error("connection lost: {0}")]
    Connection(#[from] io::Error),
}

enum Exchanged {
    Written(usize),
    Read(usize),
}

/// A request that is done.
#[derive(Debug)]
pub struct Done {
    /// Which one.
    pub id: RequestId,
    /// What it brought.
    pub outcome: Result<Response, RequestError>,
    /// How long the answer took.
    pub took: Duration,
}

impl Connection {
    /// Connects over TCP, waiting `connect_timeout` at most.
    ///
    /// # Errors
    /// What the operating system says, or [`io::ErrorKind::TimedOut`].
    pub async fn tcp(host: &str, port: u16, connect_timeout: Duration, config: ClientConfig) -> io::Result<Self> {
        let connecting = timeout(connect_timeout, TcpStream::connect((host, port)));
        let stream = connecting.await.map_err(|_| {
            io::Error::new(io::ErrorKind::TimedOut, format!("no connection within {connect_timeout:?}"))
        })??;
        // Requests are small and each waits for its answer: holding them back would only delay it.
        stream.set_nodelay(true)?;
        Ok(Self::over(stream, config))
    }

    /// Opens a serial port. The silence between frames is that of its speed, if the configuration does not ask for more.
    ///
    /// # Errors
    /// What the operating system says.
    pub fn serial(settings: &SerialSettings, config: ClientConfig) -> io::Result<Self> {
        let silence = config.silence.max(config.framing.silence(settings.baud));
        Ok(Self::over(settings.open()?, ClientConfig { silence, ..config }))
    }

    /// Speaks over something that is open.
    #[must_use]
    pub fn over(wire: impl Wire + 'static, config: ClientConfig) -> Self {
        let machine = Client::new(config);
        Self { wire: Box::new(wire), machine, outgoing: Vec::new(), incoming: Box::new([0; READ_BYTES]) }
    }

    /// Goes on where an earlier connection to the same line ended.
    #[must_use]
    pub fn with_owed(self, owed: OwedAnswers) -> Self {
        Self { machine: self.machine.with_owed(owed), ..self }
    }

    /// The answers that are owed now that this connection ends; see [`Client::take_owed`].
    #[must_use]
    pub fn take_owed(&mut self) -> OwedAnswers {
        self.machine.take_owed()
    }

    /// When a request of a function to a unit may go out; see [`Client::held_until`].
    #[must_use]
    pub fn held_until(&self, now: std::time::Instant, unit: u8, function: u8) -> Option<std::time::Instant> {
        self.machine.held_until(now, unit, function)
    }

    /// When the next request that is held may go out.
    #[must_use]
    pub fn next_release(&self) -> Option<std::time::Instant> {
        self.machine.next_release()
    }

    /// Sends one request and waits for its answer; for callers that have nothing else outstanding.
    ///
    /// # Errors
    /// [`ConnectionError`]; after its `Stream` and `Connection` variants the connection is of no more use.
    pub async fn call(&mut self, unit: u8, request: impl Into<Request>) -> Result<Response, ConnectionError> {
        let request = request.into();
        let id = match self.machine.request(unit, request.clone()) {
            Ok(id) => id,
            Err(Busy) => {
                // The caller dropped an earlier call half way; its answer will be unmatched and dropped.
                self.machine.reset();
                self.machine.request(unit, request).map_err(|busy| io::Error::other(busy.to_string()))?
            }
        };
        loop {
            let done = self.next().await?;
            if done.id == id {
                return Ok(done.outcome?);
            }
        }
    }

    /// Queues a request; [`Connection::next`] sends it and tells what became of it.
    ///
    /// # Errors
    /// [`Busy`] when the device already owes as many answers as it takes at a time.
    pub fn submit(&mut self, unit: u8, request: impl Into<Request>) -> Result<RequestId, Busy> {
        self.machine.request(unit, request)
    }

    /// How many requests can be outstanding at a time.
    #[must_use]
    pub fn capacity(&self) -> usize {
        self.machine.capacity()
    }

    /// Sends and receives until a request is done. It can be dropped and called again without losing anything; with
    /// nothing outstanding it tells only that the connection broke.
    ///
    /// # Errors
    /// When the connection is of no more use; never [`ConnectionError::Request`].
    pub async fn next(&mut self) -> Result<Done, ConnectionError> {
        loop {
            match self.machine.poll_event() {
                Some(Event::Done(id, outcome, took)) => return Ok(Done { id, outcome, took }),
                Some(Event::Broken(error)) => return Err(error.into()),
                None => self.step().await?,
            }
        }
    }

    /// Writes, reads, or waits for a deadline, whichever comes first. Each of them can be dropped half way.
    async fn step(&mut self) -> io::Result<()> {
        while self.machine.poll_transmit(Instant::now().into_std(), &mut self.outgoing) {}
        let deadline = self.machine.poll_timeout();
        let Self { wire, outgoing, incoming, .. } = self;
        let exchange = poll_fn(|context| {
            if !outgoing.is_empty()
                && let Poll::Ready(written) = Pin::new(&mut *wire).poll_write(context, outgoing)
            {
                return Poll::Ready(written.map(Exchanged::Written));
            }
            let mut buffer = ReadBuf::new(&mut incoming[..]);
            let read = ready!(Pin::new(&mut *wire).poll_read(context, &mut buffer));
            Poll::Ready(read.map(|()| Exchanged::Read(buffer.filled().len())))
        });
        tokio::select! {
            exchanged = exchange => match exchanged? {
                Exchanged::Written(count) => _ = self.outgoing.drain(..count),
                Exchanged::Read(0) => {
                    return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "closed by the device"));
                }
                Exchanged::Read(count) => {
                    let bytes = self.incoming.get(..count).unwrap_or_default();
                    self.machine.handle_input(Instant::now().into_std(), bytes);
                }
            },
            () = until(deadline) => self.machine.handle_timeout(Instant::now().into_std()),
        }
        Ok(())
    }

    /// The next frame that went over the wire; see [`Client::poll_frame`].
    #[must_use]
    pub fn poll_frame(&mut self) -> Option<TracedFrame> {
        self.machine.poll_frame()
    }

    /// What it counted on this connection.
    #[must_use]
    pub const fn stats(&self) -> ClientStats {
        self.machine.stats()
    }
}

async fn until(deadline: Option<std::time::Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Connection").field("machine", &self.machine).finish_non_exhaustive()
    }
}
