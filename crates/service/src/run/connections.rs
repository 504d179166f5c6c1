//! Connections from browsers and clients, within limits that no single address can use up.

use crate::App;
use crate::access::auth::Peer;
use crate::access::proxy;
use arc_swap::ArcSwap;
use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use interlex_busy::watched;
use parking_lot::Mutex;
use rustls::ServerConfig;
use std::net::{IpAddr, SocketAddr};
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{Instant, sleep, timeout};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tower::ServiceExt;

/// A handshake takes two round trips; whoever takes longer is not going to.
const HANDSHAKE: Duration = Duration::from_secs(5);
/// How long the head of a request may take, and a connection may wait for its next one.
const HEAD: Duration = Duration::from_secs(15);
/// How long requests may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(2);
/// Connections of one address: many people behind one router, each with several tabs.
const EACH: usize = 400;
/// The share of all connections that addresses may have from which nobody has signed in yet, in percent: a flood of silent
/// ones leaves room for those who work here.
const STRANGERS: usize = 75;

/// Who is connected.
#[derive(Debug)]
struct Connections {
    all: usize,
    open: Mutex<Vec<Arc<Connection>>>,
}

#[derive(Debug)]
struct Connection {
    address: IpAddr,
    is_known: bool,
    asks: Mutex<Asks>,
    /// Cancelled when it has to make room.
    room: CancellationToken,
}

#[derive(Debug)]
struct Asks {
    under_way: usize,
    quiet_since: Instant,
}

impl Connection {
    /// Since when nothing is asked on it.
    fn idle_since(&self) -> Option<Instant> {
        let asks = self.asks.lock();
        (asks.under_way == 0).then_some(asks.quiet_since)
    }
}

/// One connection; it is counted no more when it is dropped.
struct Counted {
    of: Arc<Connections>,
    it: Arc<Connection>,
}

/// A request under way.
struct Asking(Arc<Connection>);

impl Asking {
    fn on(connection: &Arc<Connection>) -> Self {
        connection.asks.lock().under_way += 1;
        Self(Arc::clone(connection))
    }
}

impl Drop for Asking {
    fn drop(&mut self) {
        let mut asks = self.0.asks.lock();
        asks.under_way -= 1;
        asks.quiet_since = Instant::now();
    }
}

impl Connections {
    /// Takes a connection in. Where there are too many, the one that has been idle for longest is closed for it: of its own
    /// address, when that has as many as it may have, else of strangers. Without an idle one there is no room.
    fn open(self: &Arc<Self>, address: IpAddr, (is_known, is_proxy): (bool, bool), now: Instant) -> Option<Counted> {
        let mut open = self.open.lock();
        let own = open.iter().filter(|connection| connection.address == address).count();
        let limit = if is_known { self.all } else { self.all * STRANGERS / 100 };
        let is_own_limit = own >= EACH && !is_proxy;
        if is_own_limit || open.len() >= limit {
            let may_go =
                |connection: &Connection| connection.address == address || (!is_own_limit && !connection.is_known);
            let candidates = open.iter().enumerate().filter(|(_, connection)| may_go(connection));
            let idle = candidates.filter_map(|(at, connection)| Some((connection.idle_since()?, at)));
            let (_, longest) = idle.min()?;
            open.swap_remove(longest).room.cancel();
        }
        let asks = Mutex::new(Asks { under_way: 0, quiet_since: now });
        let it = Arc::new(Connection { address, is_known, asks, room: CancellationToken::new() });
        open.push(Arc::clone(&it));
        Some(Counted { of: Arc::clone(self), it })
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        self.of.open.lock().retain(|connection| !Arc::ptr_eq(connection, &self.it));
    }
}

/// How many connections there may be: a quarter of the files that the process may open, for links, brokers and the database
/// need some, too.
fn connection_limit() -> usize {
    let (soft, _) = nix::sys::resource::getrlimit(nix::sys::resource::Resource::RLIMIT_NOFILE).unwrap_or((1024, 1024));
    usize::try_from(soft / 4).unwrap_or(usize::MAX).clamp(64, 1000)
}

/// Serves until `stop` is cancelled, and lets requests under way end.
pub(crate) async fn serve(
    listener: TcpListener,
    tls: Option<Arc<ArcSwap<ServerConfig>>>,
    (app, router): (Arc<App>, Router),
    stop: CancellationToken,
) {
    let connections = Arc::new(Connections { all: connection_limit(), open: Mutex::default() });
    let tracker = TaskTracker::new();
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => break,
        };
        let Ok((stream, peer)) = accepted else {
            // Out of file handles, or the peer has gone again: the next one may do better.
            sleep(Duration::from_millis(10)).await;
            continue;
        };
        let address = peer.ip().to_canonical();
        let is_proxy = proxy::is_trusted(address, &app.trusted_proxies);
        let is_known = is_proxy || app.attempts.knows(&address.to_string());
        let Some(counted) = connections.open(address, (is_known, is_proxy), Instant::now()) else {
            tracing::debug!(%peer, "too many connections");
            continue;
        };
        // Answers are small, and frames of live values should not wait for each other.
        let _ = stream.set_nodelay(true);
        let (tls, router, stop) = (tls.clone(), router.clone(), stop.clone());
        tracker.spawn(watched("request", "", async move {
            let connection = Arc::clone(&counted.it);
            let spoken = async {
                match tls {
                    None => speak(stream, peer, &connection, router, stop).await,
                    Some(tls) => shake_hands(stream, peer, &connection, tls, router, stop).await,
                }
            };
            tokio::select! {
                () = spoken => {}
                () = connection.room.cancelled() => tracing::debug!(%peer, "closed for a newer connection"),
            }
            drop(counted);
        }));
    }
    tracker.close();
    let _ = timeout(GRACE, tracker.wait()).await;
}

async fn shake_hands(
    stream: TcpStream,
    peer: SocketAddr,
    connection: &Arc<Connection>,
    tls: Arc<ArcSwap<ServerConfig>>,
    router: Router,
    stop: CancellationToken,
) {
    let acceptor = TlsAcceptor::from(tls.load_full());
    match timeout(HANDSHAKE, acceptor.accept(stream)).await {
        Ok(Ok(stream)) => speak(stream, peer, connection, router, stop).await,
        Ok(Err(error)) => tracing::debug!(%peer, %error, "no TLS"),
        Err(_) => tracing::debug!(%peer, "no TLS in time"),
    }
}

async fn speak(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    peer: SocketAddr,
    connection: &Arc<Connection>,
    router: Router,
    stop: CancellationToken,
) {
    let service = hyper::service::service_fn(move |request: hyper::Request<Incoming>| {
        let asking = Asking::on(connection);
        let mut request = request.map(Body::new);
        request.extensions_mut().insert(ConnectInfo(Peer(peer)));
        let answered = router.clone().oneshot(request);
        async move {
            let answer = answered.await;
            // It is under way until the last byte of its answer, which a stream has much later.
            answer.map(|answer| {
                answer.map(|body| {
                    Body::new(body.map_frame(move |frame| {
                        let _ = &asking;
                        frame
                    }))
                })
            })
        }
    });
    let mut http = http1::Builder::new();
    http.timer(TokioTimer::new()).header_read_timeout(HEAD).max_buf_size(64 << 10);
    let mut connection = pin!(http.serve_connection(TokioIo::new(stream), service));
    let ended = tokio::select! {
        ended = connection.as_mut() => ended,
        () = stop.cancelled() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = ended {
        tracing::debug!(%peer, %error, "a connection ended");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_leave_room_for_those_who_are_known_and_nobody_takes_all() {
        let connections = Arc::new(Connections { all: 600, open: Mutex::default() });
        let address = |number: u8| IpAddr::from([10, 0, 0, number]);
        let now = Instant::now();
        let open = |number, is_known| {
            let opened = connections.open(address(number), (is_known, false), now)?;
            let asking = Asking::on(&opened.it);
            Some((opened, asking))
        };
        let one: Vec<_> = (0..500).filter_map(|_| open(1, false)).collect();
        assert_eq!(one.len(), EACH);
        let others: Vec<_> = (2..=200).filter_map(|number| open(number, false)).collect();
        assert_eq!(one.len() + others.len(), 450);
        let known = open(201, true);
        assert!(open(202, false).is_none() && known.is_some());
        drop((one, others, known));
        assert!(connections.open.lock().is_empty());
    }

    #[test]
    fn the_connection_that_has_been_idle_for_longest_makes_room() {
        let connections = Arc::new(Connections { all: 4, open: Mutex::default() });
        let address = |number: u8| IpAddr::from([10, 0, 0, number]);
        let start = Instant::now();
        let open = |number, is_known, now| connections.open(address(number), (is_known, false), now);
        let (busy, idle) = (open(1, false, start).unwrap(), open(2, false, start).unwrap());
        let asking = Asking::on(&busy.it);
        let later = start + Duration::from_millis(1);
        let (third, fourth) = (open(3, false, later).unwrap(), open(4, false, later).unwrap());
        assert!(idle.it.room.is_cancelled() && !busy.it.room.is_cancelled() && !third.it.room.is_cancelled());
        let still = (Asking::on(&third.it), Asking::on(&fourth.it));
        assert!(open(5, false, later).is_none(), "the others are busy");
        drop((asking, still));
        assert!(open(5, true, later).is_some() && open(5, false, later).is_some());
        drop((busy, idle, third, fourth));
        assert!(connections.open.lock().is_empty());
    }
}
