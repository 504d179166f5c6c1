//! Connections from browsers and clients, within limits that no single address can use up.

use crate::serve::Peer;
use crate::{App, proxy};
use arc_swap::ArcSwap;
use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use parking_lot::Mutex;
use rustls::ServerConfig;
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{sleep, timeout};
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
/// Connections of one address: several people behind one router, each with several tabs.
const EACH: usize = 64;
/// The share of all connections that addresses may have from which nobody has signed in yet, in percent: a flood of silent
/// ones leaves room for those who work here.
const STRANGERS: usize = 75;

/// Who is connected.
#[derive(Debug)]
struct Connections {
    all: usize,
    open: Mutex<HashMap<IpAddr, usize>>,
}

/// One connection; it is counted no more when it is dropped.
struct Counted {
    of: Arc<Connections>,
    address: IpAddr,
}

impl Connections {
    fn open(self: &Arc<Self>, address: IpAddr, is_known: bool, is_proxy: bool) -> Option<Counted> {
        let mut open = self.open.lock();
        let all = open.values().sum::<usize>();
        let own = open.get(&address).copied().unwrap_or(0);
        let limit = if is_known { self.all } else { self.all * STRANGERS / 100 };
        if all >= limit || (own >= EACH && !is_proxy) {
            return None;
        }
        *open.entry(address).or_default() += 1;
        Some(Counted { of: Arc::clone(self), address })
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        let mut open = self.of.open.lock();
        if let Some(count) = open.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.address);
            }
        }
    }
}

/// How many connections there may be: a quarter of the files that the process may open, for links, brokers and the database
/// need some, too.
fn most() -> usize {
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
    let connections = Arc::new(Connections { all: most(), open: Mutex::default() });
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
        let Some(counted) = connections.open(address, is_known, is_proxy) else {
            tracing::debug!(%peer, "too many connections");
            continue;
        };
        // Answers are small, and frames of live values should not wait for each other.
        let _ = stream.set_nodelay(true);
        let (tls, router, stop) = (tls.clone(), router.clone(), stop.clone());
        tracker.spawn(async move {
            let _counted = counted;
            match tls {
                None => speak(stream, peer, router, stop).await,
                Some(tls) => shake_hands(stream, peer, tls, router, stop).await,
            }
        });
    }
    tracker.close();
    let _ = timeout(GRACE, tracker.wait()).await;
}

async fn shake_hands(
    stream: TcpStream,
    peer: SocketAddr,
    tls: Arc<ArcSwap<ServerConfig>>,
    router: Router,
    stop: CancellationToken,
) {
    let acceptor = TlsAcceptor::from(tls.load_full());
    match timeout(HANDSHAKE, acceptor.accept(stream)).await {
        Ok(Ok(stream)) => speak(stream, peer, router, stop).await,
        Ok(Err(error)) => tracing::debug!(%peer, %error, "no TLS"),
        Err(_) => tracing::debug!(%peer, "no TLS in time"),
    }
}

async fn speak(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    peer: SocketAddr,
    router: Router,
    stop: CancellationToken,
) {
    let service = hyper::service::service_fn(move |request: hyper::Request<Incoming>| {
        let mut request = request.map(Body::new);
        request.extensions_mut().insert(ConnectInfo(Peer(peer)));
        router.clone().oneshot(request)
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
        let connections = Arc::new(Connections { all: 200, open: Mutex::default() });
        let address = |number: u8| IpAddr::from([10, 0, 0, number]);
        let open = |number, is_known| connections.open(address(number), is_known, false);
        let one: Vec<_> = (0..100).filter_map(|_| open(1, false)).collect();
        assert_eq!(one.len(), EACH);
        let others: Vec<_> = (2..=200).filter_map(|number| open(number, false)).collect();
        assert_eq!(one.len() + others.len(), 150);
        let known = open(201, true);
        assert!(open(202, false).is_none() && known.is_some());
        drop((one, others, known));
        assert!(connections.open.lock().is_empty());
    }
}
