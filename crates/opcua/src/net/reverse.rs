//! Servers that connect to us, where only outgoing connections are allowed.
//!
//! Source: OPC 10000-6, section 7.1.3.

use super::accepted;
use crate::codec::Binary;
use crate::transport::{ChunkType, FrameDecoder, MessageType, ReverseHello, encode_frame};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Notify, Semaphore, watch};
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// The door at which servers call.
///
/// Nothing proves what a server says there: a connection is handed to whoever expects a server of that URI, and what follows proves it,
/// or does not. Nobody dials what it says, and few may stand in the door at a time.
#[derive(Debug, Default)]
pub struct ReverseDoor {
    expected: Mutex<HashMap<String, Arc<Place>>>,
    unexpected: watch::Sender<Option<String>>,
}

/// Where a call waits until it is taken: the newest one, since a server does not wait for ever.
#[derive(Debug, Default)]
struct Place {
    call: Mutex<Option<(TcpStream, ReverseHello)>>,
    called: Notify,
}

/// Connections from one server, as they come.
#[derive(Debug)]
pub struct Expected {
    door: Arc<ReverseDoor>,
    server_uri: String,
    place: Arc<Place>,
}

/// Somebody else expects the same server.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("somebody else expects calls of {0}")]
pub struct ExpectedTwice(String);

/// So many may stand in the door without having said who they are.
const STRANGERS: usize = 32;
/// So long they may take for that.
const PATIENCE: Duration = Duration::from_secs(5);
/// Header, and two texts of 4096 bytes with their lengths.
const LONGEST: usize = 8 + 2 * (4 + 4096);

impl ReverseDoor {
    /// Expects calls of a server.
    ///
    /// # Errors
    /// When somebody else does.
    pub fn expect(self: &Arc<Self>, server_uri: &str) -> Result<Expected, ExpectedTwice> {
        match self.expected.lock().entry(server_uri.to_owned()) {
            Entry::Occupied(_) => Err(ExpectedTwice(server_uri.to_owned())),
            Entry::Vacant(entry) => {
                let place = Arc::clone(entry.insert(Arc::default()));
                Ok(Expected { door: Arc::clone(self), server_uri: server_uri.to_owned(), place })
            }
        }
    }

    /// The URI of whoever called last without being expected.
    #[must_use]
    pub fn unexpected(&self) -> Option<String> {
        self.unexpected.borrow().clone()
    }

    /// Waits for somebody who calls from now on without being expected.
    pub fn stranger(&self) -> impl Future<Output = String> + use<> {
        let mut unexpected = self.unexpected.subscribe();
        async move {
            loop {
                // The sender is in the door.
                if unexpected.changed().await.is_err() {
                    std::future::pending::<()>().await;
                }
                let called = unexpected.borrow().clone();
                if let Some(called) = called {
                    return called;
                }
            }
        }
    }

    /// Stands at a listener until `stop` is cancelled.
    ///
    /// # Errors
    /// When the listener fails for good.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, stop: CancellationToken) -> io::Result<()> {
        let (strangers, callers) = (Arc::new(Semaphore::new(STRANGERS)), TaskTracker::new());
        let result = loop {
            match accepted(&listener, &stop).await {
                Ok(Some(stream)) => {
                    // Whoever comes when too many stand there is sent away.
                    let Ok(place) = Arc::clone(&strangers).try_acquire_owned() else { continue };
                    let (door, stop) = (Arc::clone(&self), stop.clone());
                    callers.spawn(async move {
                        tokio::select! {
                            () = door.let_in(stream) => {}
                            () = stop.cancelled() => {}
                        }
                        drop(place);
                    });
                }
                Ok(None) => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        callers.close();
        callers.wait().await;
        result
    }

    async fn let_in(&self, mut stream: TcpStream) {
        let Ok(Ok(hello)) = timeout(PATIENCE, hear(&mut stream)).await else { return };
        let uri = hello.server_uri.as_deref().unwrap_or_default();
        let expected = self.expected.lock().get(uri).cloned();
        match expected {
            Some(place) => {
                *place.call.lock() = Some((stream, hello));
                place.called.notify_one();
            }
            None => _ = self.unexpected.send_replace(Some(uri.to_owned())),
        }
    }
}

impl Expected {
    /// The next call: a connection on which the server waits for us, and what it says of itself.
    pub async fn call(&mut self) -> (TcpStream, ReverseHello) {
        loop {
            let call = self.place.call.lock().take();
            if let Some(call) = call {
                return call;
            }
            self.place.called.notified().await;
        }
    }
}

impl Drop for Expected {
    fn drop(&mut self) {
        self.door.expected.lock().remove(&self.server_uri);
    }
}

/// Reads the first word of a server, and nothing behind it.
async fn hear(stream: &mut TcpStream) -> io::Result<ReverseHello> {
    let nonsense = || io::Error::from(io::ErrorKind::InvalidData);
    let mut bytes = vec![0; 8];
    stream.read_exact(&mut bytes).await?;
    let length = bytes.get(4..8).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_le_bytes);
    let length = usize::try_from(length).ok().filter(|length| (8..=LONGEST).contains(length)).ok_or_else(nonsense)?;
    bytes.resize(length, 0);
    stream.read_exact(bytes.get_mut(8..).unwrap_or_default()).await?;
    let mut decoder = FrameDecoder::new(LONGEST);
    decoder.push(&bytes);
    match decoder.poll_frame() {
        Ok(Some(frame)) if frame.message == MessageType::ReverseHello => {
            ReverseHello::from_bytes(frame.body()).map_err(|_| nonsense())
        }
        _ => Err(nonsense()),
    }
}

/// Says the first word of a server that connects.
pub(super) async fn say(stream: &mut TcpStream, hello: &ReverseHello) -> io::Result<()> {
    let mut bytes = Vec::new();
    encode_frame(MessageType::ReverseHello, ChunkType::Final, &hello.to_bytes(), &mut bytes);
    stream.write_all(&bytes).await
}
