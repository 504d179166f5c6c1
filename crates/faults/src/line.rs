use interlex_sidecar::own_address;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::{CancellationToken, DropGuard};

/// A TCP line to an address of loopback that can be cut in the middle of a message, or frozen.
#[derive(Debug)]
pub struct BreakableLine {
    address: SocketAddr,
    state: Arc<State>,
    _stop: DropGuard,
}

#[derive(Debug, Default)]
struct State {
    /// Raised with every cut: connections of before end.
    cuts: AtomicU64,
    is_frozen: AtomicBool,
}

/// How soon a connection notices that it is cut or frozen.
const LOOK: Duration = Duration::from_millis(2);

impl BreakableLine {
    /// Starts it on a free port of loopback.
    ///
    /// # Errors
    /// When there is none.
    pub async fn start(target: SocketAddr) -> std::io::Result<Self> {
        let listener = TcpListener::bind((own_address(), 0)).await?;
        let address = listener.local_addr()?;
        let (state, stop) = (Arc::new(State::default()), CancellationToken::new());
        let (shared, ended) = (Arc::clone(&state), stop.clone());
        tokio::spawn(async move {
            loop {
                let accepted = tokio::select! {
                    accepted = listener.accept() => accepted,
                    () = ended.cancelled() => return,
                };
                if let Ok((client, _)) = accepted {
                    tokio::spawn(carry_both(client, target, Arc::clone(&shared)));
                }
            }
        });
        Ok(Self { address, state, _stop: stop.drop_guard() })
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// Cuts every connection that is open, wherever in a message it is.
    pub fn cut(&self) {
        self.state.cuts.fetch_add(1, Ordering::SeqCst);
    }

    /// Carries nothing, and closes nothing either; or goes on.
    pub fn freeze(&self, is_frozen: bool) {
        self.state.is_frozen.store(is_frozen, Ordering::SeqCst);
    }
}

async fn carry_both(client: TcpStream, target: SocketAddr, state: Arc<State>) {
    let Ok(server) = TcpStream::connect(target).await else { return };
    // Held-back packets would delay what is measured; without it all is the same but for the time.
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    let cuts = state.cuts.load(Ordering::SeqCst);
    let ((from_client, to_client), (from_server, to_server)) = (client.into_split(), server.into_split());
    tokio::select! {
        () = carry(from_client, to_server, &state) => {}
        () = carry(from_server, to_client, &state) => {}
        () = cut(&state, cuts) => {}
    }
}

async fn cut(state: &State, cuts: u64) {
    while state.cuts.load(Ordering::SeqCst) == cuts {
        tokio::time::sleep(LOOK).await;
    }
}

async fn carry(mut from: OwnedReadHalf, mut to: OwnedWriteHalf, state: &State) {
    // Small pieces, so that a cut falls into messages.
    let mut bytes = [0; 700];
    while let Ok(length) = from.read(&mut bytes).await {
        while state.is_frozen.load(Ordering::SeqCst) {
            tokio::time::sleep(LOOK).await;
        }
        let Some(piece) = bytes.get(..length).filter(|piece| !piece.is_empty()) else { return };
        if to.write_all(piece).await.is_err() {
            return;
        }
    }
}
