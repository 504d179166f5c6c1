use super::{closed, now, until};
use crate::channel::NotSent;
use crate::client::{ClientSession, ClientSessionEvent, RequestError, SessionError};
use crate::service::{Request, Response};
use std::io;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// A TCP stream under a [`ClientSession`], which outlives it.
#[derive(Debug)]
pub struct Connection {
    stream: TcpStream,
    incoming: Vec<u8>,
    outgoing: Vec<u8>,
    /// So much of it is written.
    written: usize,
    /// Sent and received since it is up.
    bytes: (u64, u64),
}

/// Why a connection is of no use any more.
#[derive(Debug, thiserror::Error)]
pub enum ConnectionError {
    /// It is gone.
    #[error("connection lost: {0}")]
    Lost(#[from] io::Error),
    /// There is no session over it.
    #[error(transparent)]
    Session(#[from] SessionError),
    /// It is fine, and a request brought nothing.
    #[error(transparent)]
    Request(#[from] RequestError),
}

const READ_BYTES: usize = 65_536;

impl Connection {
    /// Begins to open a channel and a session over a stream.
    pub fn new(stream: TcpStream, session: &mut ClientSession) -> Self {
        // A connection that sends late is one that works.
        let _ = stream.set_nodelay(true);
        session.connected(now().0);
        Self { stream, incoming: vec![0; READ_BYTES], outgoing: Vec::new(), written: 0, bytes: (0, 0) }
    }

    /// How many bytes were sent and received since it is up.
    #[must_use]
    pub const fn bytes(&self) -> (u64, u64) {
        self.bytes
    }

    /// The next thing that happens to the session. Nothing is lost when this is not awaited to its end.
    ///
    /// # Errors
    /// When the connection is gone; the session has been told.
    pub async fn event(&mut self, session: &mut ClientSession) -> io::Result<ClientSessionEvent> {
        let happened = self.drive(session).await;
        if happened.is_err() {
            session.disconnected();
        }
        happened
    }

    async fn drive(&mut self, session: &mut ClientSession) -> io::Result<ClientSessionEvent> {
        loop {
            if self.written == self.outgoing.len() {
                self.outgoing.clear();
                self.written = 0;
            }
            _ = session.poll_transmit(&mut self.outgoing);
            // What was sent last may say why.
            let event = session.poll_event();
            if let Some(event) = event {
                return Ok(event);
            }
            let rest = self.outgoing.get(self.written..).unwrap_or_default();
            let (mut reading, mut writing) = self.stream.split();
            tokio::select! {
                written = writing.write(rest), if !rest.is_empty() => match written? {
                    0 => return Err(io::ErrorKind::WriteZero.into()),
                    written => {
                        self.written += written;
                        self.bytes.0 += u64::try_from(written).unwrap_or_default();
                    }
                },
                length = reading.read(&mut self.incoming) => match length? {
                    0 => return Err(closed()),
                    length => {
                        self.bytes.1 += u64::try_from(length).unwrap_or_default();
                        session.handle_input(now(), self.incoming.get(..length).unwrap_or_default());
                    }
                },
                () = until(session.poll_timeout()) => session.handle_timeout(now()),
            }
        }
    }

    /// Waits until the session is active; tells whether it is a new one.
    ///
    /// # Errors
    /// When there is none.
    pub async fn entered(&mut self, session: &mut ClientSession) -> Result<bool, ConnectionError> {
        loop {
            match self.event(session).await? {
                ClientSessionEvent::Active { is_new } => return Ok(is_new),
                ClientSessionEvent::Down(error) => return Err(error.into()),
                ClientSessionEvent::Answered(..) => {}
            }
        }
    }

    /// Asks, and waits for the answer: for whoever asks one thing at a time, since answers to others are passed over.
    ///
    /// # Errors
    /// When there is no answer.
    pub async fn ask(
        &mut self,
        session: &mut ClientSession,
        request: impl Into<Request>,
        timeout: Duration,
    ) -> Result<Response, ConnectionError> {
        let refused = |error: NotSent| ConnectionError::Request(error.into());
        let id = session.request(now(), request.into(), timeout).map_err(refused)?;
        loop {
            match self.event(session).await? {
                ClientSessionEvent::Answered(of, answer) if of == id => return Ok(*answer?),
                ClientSessionEvent::Down(error) => return Err(error.into()),
                ClientSessionEvent::Answered(..) | ClientSessionEvent::Active { .. } => {}
            }
        }
    }

    /// Ends the session in order, with its subscriptions or leaving them, as far as the server takes part in it.
    pub async fn close(mut self, session: &mut ClientSession, delete_subscriptions: bool, patience: Duration) {
        session.close(now(), delete_subscriptions);
        let closing = async {
            loop {
                match self.event(session).await {
                    Ok(ClientSessionEvent::Down(_)) | Err(_) => return,
                    Ok(_) => {}
                }
            }
        };
        _ = tokio::time::timeout(patience, closing).await;
        session.disconnected();
    }
}
