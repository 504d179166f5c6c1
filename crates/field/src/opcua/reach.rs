//! How a stream to a server comes about: it is dialled, or the server calls.
//!
//! Source: OPC 10000-6, section 7.1.3.

use crate::link::Memories;
use interlex_core::description::{ListenAddress, OpcUaLink, ServerUrl};
use interlex_opcua::{ExpectedServer, ReverseDoor, ReverseHello};
use parking_lot::Mutex;
use std::any::Any;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Weak};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{Instant, timeout_at};
use tokio_util::sync::CancellationToken;

/// What a link is reached by. The door at which its server calls stays open as long as this is.
#[derive(Debug, Clone)]
pub(super) struct Reach {
    url: ServerUrl,
    reverse: Option<Reverse>,
}

#[derive(Debug, Clone)]
struct Reverse {
    address: SocketAddr,
    server_uri: Option<String>,
    door: Arc<Door>,
    /// What keeps the door open, and the server expected.
    held: Arc<Mutex<Option<Arc<dyn Any + Send + Sync>>>>,
}

/// A stream on which a server waits for us.
pub(super) struct Reached {
    pub(super) stream: TcpStream,
    /// By what the server wants to be called: a server that calls says so.
    pub(super) url: String,
}

/// Where servers call; links that listen at one address share it.
#[derive(Debug, Default)]
struct Door {
    standing: tokio::sync::Mutex<Standing>,
}

#[derive(Debug, Default)]
struct Standing {
    open: Weak<OpenDoor>,
    /// By the URI of their servers.
    callers: HashMap<String, Weak<Caller>>,
}

#[derive(Debug)]
struct OpenDoor {
    door: Arc<ReverseDoor>,
    stop: CancellationToken,
}

/// One server that is expected, by its link and by what is done once.
#[derive(Debug)]
struct Caller {
    open: Arc<OpenDoor>,
    expected: tokio::sync::Mutex<ExpectedServer>,
}

impl Reach {
    pub(super) fn new(link: &OpcUaLink, memories: &Memories) -> Self {
        let reverse = link.reverse.map(|ListenAddress(address)| Reverse {
            address,
            server_uri: link.server_uri.clone(),
            door: memories.of(&format!("opcua door {address}")),
            held: Arc::default(),
        });
        Self { url: link.url.clone(), reverse }
    }

    /// The next stream.
    pub(super) async fn stream(&self, deadline: Instant) -> Result<Reached, String> {
        let own = self.url.to_string();
        match &self.reverse {
            None => Ok(Reached { stream: self.dial(deadline).await?, url: own }),
            Some(reverse) => {
                let (stream, hello) = reverse.call(deadline).await?;
                Ok(Reached { stream, url: hello.endpoint_url.filter(|url| !url.is_empty()).unwrap_or(own) })
            }
        }
    }

    async fn dial(&self, deadline: Instant) -> Result<TcpStream, String> {
        let (host, port) = (self.url.bare_host(), self.url.port);
        match timeout_at(deadline, TcpStream::connect((host, port))).await {
            Ok(stream) => stream.map_err(|error| format!("{host}:{port}: {error}")),
            Err(_) => Err(format!("{host}:{port} does not answer")),
        }
    }
}

impl Reverse {
    async fn call(&self, deadline: Instant) -> Result<(TcpStream, ReverseHello), String> {
        let address = self.address;
        let Some(server_uri) = &self.server_uri else {
            let open = self.door.open(address).await?;
            *self.held.lock() = Some(Arc::clone(&open) as _);
            let stranger = open.door.stranger();
            let called = match open.door.unexpected() {
                Some(called) => Ok(called),
                None => timeout_at(deadline, stranger).await,
            };
            return Err(match called {
                Ok(called) => format!("{called:?} calls at {address}: is that the server-uri of this link?"),
                Err(_) => format!("no server calls at {address}"),
            });
        };
        let caller = self.door.caller(address, server_uri).await?;
        *self.held.lock() = Some(Arc::clone(&caller) as _);
        let call = timeout_at(deadline, async { caller.expected.lock().await.call().await }).await;
        call.map_err(|_| {
            let other = caller.open.door.unexpected().map(|other| format!("; {other:?} does")).unwrap_or_default();
            format!("{server_uri} does not call at {address}{other}")
        })
    }
}

impl Door {
    async fn open(&self, address: SocketAddr) -> Result<Arc<OpenDoor>, String> {
        self.standing.lock().await.open(address).await
    }

    async fn caller(&self, address: SocketAddr, server_uri: &str) -> Result<Arc<Caller>, String> {
        let mut standing = self.standing.lock().await;
        if let Some(known) = standing.callers.get(server_uri).and_then(Weak::upgrade) {
            return Ok(known);
        }
        let open = standing.open(address).await?;
        let expected = open.door.expect(server_uri).map_err(|error| error.to_string())?;
        let caller = Arc::new(Caller { open, expected: tokio::sync::Mutex::new(expected) });
        standing.callers.retain(|_, caller| caller.strong_count() > 0);
        standing.callers.insert(server_uri.to_owned(), Arc::downgrade(&caller));
        Ok(caller)
    }
}

impl Standing {
    async fn open(&mut self, address: SocketAddr) -> Result<Arc<OpenDoor>, String> {
        if let Some(open) = self.open.upgrade() {
            return Ok(open);
        }
        let listener = TcpListener::bind(address).await;
        let listener = listener.map_err(|error| format!("nobody can call at {address}: {error}"))?;
        let open = Arc::new(OpenDoor { door: Arc::default(), stop: CancellationToken::new() });
        let serving = Arc::clone(&open.door).serve(listener, open.stop.clone());
        tokio::spawn(async move {
            if let Err(error) = serving.await {
                tracing::error!(%address, %error, "servers cannot call any more");
            }
        });
        self.open = Arc::downgrade(&open);
        Ok(open)
    }
}

impl Drop for OpenDoor {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}
