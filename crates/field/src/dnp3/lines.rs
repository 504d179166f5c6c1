//! The ways of one session: the one that was dialled, and those on which outstations dialled in.

use super::tls::{self, Tls};
use super::way::Way;
use interlex_core::Backoff;
use interlex_core::description::{Dnp3Link, Dnp3TcpLink, Span};
use interlex_dnp3::WayId;
use std::collections::BTreeMap;
use std::future::poll_fn;
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, mpsc, oneshot};
use tokio::time::{Instant, sleep, timeout};
use tokio_util::sync::{CancellationToken, DropGuard};

/// One way with what is on it.
pub(super) struct Line {
    way: Way,
    incoming: Vec<u8>,
    outgoing: Vec<u8>,
    is_unflushed: bool,
    /// What the certificate of the other side says.
    pub(super) tls: Option<Tls>,
    pub(super) is_dialled: bool,
    /// Octets since the last frame that belong to none.
    pub(super) noise: u64,
    /// When somebody who dialled in and said nothing is asked who is there, and when that ends.
    asked_at: Option<Instant>,
    ends_at: Option<Instant>,
    /// Where it leads, for people.
    pub(super) peer: String,
    /// From where somebody dialled in.
    from: Option<IpAddr>,
    /// Dropped with the line: whoever dialled it dials again.
    _ended: Option<oneshot::Sender<()>>,
}

/// Somebody is there.
pub(super) struct Arrival {
    way: Way,
    tls: Option<Tls>,
    is_dialled: bool,
    peer: String,
    from: Option<IpAddr>,
    ended: Option<oneshot::Sender<()>>,
}

/// All of them.
pub(super) struct Lines {
    lines: BTreeMap<WayId, Line>,
    last: u64,
    /// From where on it is looked whether something came.
    turn: u64,
    /// Where others dial in, and what is dialled beside that.
    arrivals: Option<mpsc::Receiver<Arrival>>,
    _stop: DropGuard,
}

/// What happened on them.
pub(super) enum Woken {
    /// So many octets came; [`Lines::came`] has them.
    Read(WayId, usize),
    Wrote(usize),
    Gone(WayId, io::Error),
    New(WayId),
}

const READ_BYTES: usize = 16_384;
/// So many connections of which nobody knows whose they are may stand there at once, and so many from one address: of more, the oldest
/// go. Whoever is known to be somebody stays.
const STRANGERS: usize = 64;
const STRANGERS_FROM_ONE: usize = 8;
/// So many may be on their way through TLS at once; others wait.
const HANDSHAKES: usize = 32;
/// How long somebody who dialled in may take for TLS.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// After so long without a word it is asked who is there, and after the other one it ends.
const SILENT: Duration = Duration::from_secs(1);
const STRANGER: Duration = Duration::from_secs(30);
/// How long to wait when no more connections can be taken.
const PAUSE: Duration = Duration::from_millis(100);
const FIRST_REDIAL: Duration = Duration::from_millis(500);

impl Lines {
    /// Opens what the link describes: dials, or listens, or does both.
    pub(super) async fn open(link: &Dnp3Link) -> Result<Self, String> {
        let stop = CancellationToken::new();
        let mut lines =
            Self { lines: BTreeMap::new(), last: 0, turn: 0, arrivals: None, _stop: stop.clone().drop_guard() };
        let Some((own, listen)) = link.tcp().and_then(|own| Some((own, own.listen?))) else {
            let (way, tls) = Way::open(link).await?;
            let peer = link.target();
            lines.add(Arrival { way, tls, is_dialled: true, peer, from: None, ended: None });
            return Ok(lines);
        };
        let acceptor = match link {
            Dnp3Link::Tls(link) => Some(tls::acceptor(link)?),
            _ => None,
        };
        let listener =
            TcpListener::bind(listen.0).await.map_err(|error| format!("cannot listen at {listen}: {error}"))?;
        let (sender, arrivals) = mpsc::channel(16);
        lines.arrivals = Some(arrivals);
        if own.host.is_some() {
            tokio::spawn(stop.clone().run_until_cancelled_owned(redial(link.clone(), own.clone(), sender.clone())));
        }
        tokio::spawn(stop.run_until_cancelled_owned(receive(listener, acceptor, sender)));
        Ok(lines)
    }

    fn add(&mut self, Arrival { way, tls, is_dialled, peer, from, ended }: Arrival) -> WayId {
        self.last += 1;
        let now = Instant::now();
        let line = Line {
            way,
            incoming: vec![0; READ_BYTES],
            outgoing: Vec::new(),
            is_unflushed: false,
            tls,
            is_dialled,
            noise: 0,
            asked_at: (!is_dialled).then_some(now + SILENT),
            ends_at: (!is_dialled).then_some(now + STRANGER),
            peer,
            from,
            _ended: ended,
        };
        self.lines.insert(WayId(self.last), line);
        WayId(self.last)
    }

    /// Somebody who is one too many, and has to go: nobody knows whose it is.
    pub(super) fn one_too_many(&self) -> Option<WayId> {
        let strangers = || self.lines.iter().filter(|(_, line)| line.ends_at.is_some());
        if strangers().count() > STRANGERS {
            return strangers().next().map(|(id, _)| *id);
        }
        let last = strangers().next_back().and_then(|(_, line)| line.from);
        let mut same = strangers().filter(|(_, line)| last.is_some() && line.from == last);
        let first = same.next().map(|(id, _)| *id);
        if same.count() >= STRANGERS_FROM_ONE { first } else { None }
    }

    /// Whether others may dial in: none of the ways is all that there is.
    pub(super) const fn is_listening(&self) -> bool {
        self.arrivals.is_some()
    }

    pub(super) fn ids(&self) -> Vec<WayId> {
        self.lines.keys().copied().collect()
    }

    pub(super) fn get_mut(&mut self, way: WayId) -> Option<&mut Line> {
        self.lines.get_mut(&way)
    }

    pub(super) fn remove(&mut self, way: WayId) -> Option<Line> {
        self.lines.remove(&way)
    }

    /// What came on a way.
    pub(super) fn came(&self, way: WayId, length: usize) -> &[u8] {
        self.lines.get(&way).and_then(|line| line.incoming.get(..length)).unwrap_or_default()
    }

    /// Octets that are to go. Gives how many wait by then.
    pub(super) fn send(&mut self, way: WayId, octets: &[u8]) -> usize {
        let Some(line) = self.lines.get_mut(&way) else { return 0 };
        line.outgoing.extend_from_slice(octets);
        line.outgoing.len()
    }

    /// When somebody is to be asked who is there, or has not said so for too long.
    pub(super) fn deadline(&self) -> Option<Instant> {
        self.lines.values().flat_map(|line| line.asked_at.into_iter().chain(line.ends_at)).min()
    }

    /// Waits until something happens; can be dropped without a loss.
    pub(super) async fn woken(&mut self) -> Woken {
        poll_fn(|context| self.poll(context)).await
    }

    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Woken> {
        // Who was served last comes last.
        let turn = WayId(self.turn);
        let places: Vec<_> = self.lines.range(turn..).chain(self.lines.range(..turn)).map(|(id, _)| *id).collect();
        for id in places {
            let Some(line) = self.lines.get_mut(&id) else { continue };
            if let Poll::Ready(woken) = line.poll(id, context) {
                self.turn = id.0 + 1;
                return Poll::Ready(woken);
            }
        }
        match self.arrivals.as_mut().map(|arrivals| arrivals.poll_recv(context)) {
            Some(Poll::Ready(Some(arrival))) => Poll::Ready(Woken::New(self.add(arrival))),
            _ => Poll::Pending,
        }
    }

    /// Ends them in order.
    pub(super) async fn close(self) {
        for line in self.lines.into_values() {
            line.way.close().await;
        }
    }
}

/// What becomes of somebody who dialled in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Stranger {
    Waits,
    /// It is asked who is there.
    IsAsked,
    /// It has not said so for too long, or is heard elsewhere by now.
    HasToGo,
}

impl Line {
    /// What is to be done about it now, when somebody is known to be there or not.
    pub(super) fn judge(&mut self, is_known: bool, now: Instant) -> Stranger {
        if is_known || self.is_dialled {
            (self.asked_at, self.ends_at) = (None, None);
            return Stranger::Waits;
        }
        let ends_at = *self.ends_at.get_or_insert(now + SILENT);
        if self.asked_at.take_if(|at| now >= *at).is_some() {
            Stranger::IsAsked
        } else if now >= ends_at {
            Stranger::HasToGo
        } else {
            Stranger::Waits
        }
    }

    fn poll(&mut self, id: WayId, context: &mut Context<'_>) -> Poll<Woken> {
        if !self.outgoing.is_empty()
            && let Poll::Ready(written) = self.way.poll_write(context, &self.outgoing)
        {
            return Poll::Ready(match written {
                Ok(count) => {
                    self.outgoing.drain(..count);
                    self.is_unflushed = true;
                    Woken::Wrote(count)
                }
                Err(error) => Woken::Gone(id, error),
            });
        }
        if self.is_unflushed && self.outgoing.is_empty() {
            match self.way.poll_flush(context) {
                Poll::Ready(Ok(())) => self.is_unflushed = false,
                Poll::Ready(Err(error)) => return Poll::Ready(Woken::Gone(id, error)),
                Poll::Pending => {}
            }
        }
        self.way.poll_read(context, &mut self.incoming).map(|read| match read {
            Ok(count) => Woken::Read(id, count),
            Err(error) => Woken::Gone(id, error),
        })
    }
}

/// Receives those who dial in, for as long as somebody wants them.
async fn receive(listener: TcpListener, acceptor: Option<tokio_rustls::TlsAcceptor>, arrivals: mpsc::Sender<Arrival>) {
    let places = Arc::new(Semaphore::new(HANDSHAKES));
    loop {
        let Ok(place) = Arc::clone(&places).acquire_owned().await else { return };
        let (stream, peer) = match listener.accept().await {
            Ok(accepted) => accepted,
            // Whoever called has gone, or there are no more files: some will be closed.
            Err(error) => {
                tracing::debug!(%error, "a connection could not be taken");
                sleep(PAUSE).await;
                continue;
            }
        };
        _ = stream.set_nodelay(true);
        let (acceptor, arrivals) = (acceptor.clone(), arrivals.clone());
        tokio::spawn(async move {
            let (from, peer, _place) = (Some(peer.ip()), peer.to_string(), place);
            match timeout(HANDSHAKE, met(stream, acceptor)).await {
                Ok(Ok((way, tls))) => {
                    let arrival = Arrival { way, tls, is_dialled: false, peer, from, ended: None };
                    // An error means that nobody waits for it any more.
                    _ = arrivals.send(arrival).await;
                }
                Ok(Err(error)) => tracing::warn!(peer, error, "somebody who dialled in was turned away"),
                Err(_) => tracing::warn!(peer, "somebody who dialled in did not say who it is"),
            }
        });
    }
}

async fn met(stream: TcpStream, acceptor: Option<tokio_rustls::TlsAcceptor>) -> Result<(Way, Option<Tls>), String> {
    match acceptor {
        None => Ok((Way::Stream(Box::new(stream)), None)),
        Some(acceptor) => {
            let (stream, tls) = tls::accept(&acceptor, stream).await?;
            Ok((Way::Stream(Box::new(stream)), Some(tls)))
        }
    }
}

/// Dials again and again, whenever the connection that it made has ended.
async fn redial(link: Dnp3Link, own: Dnp3TcpLink, arrivals: mpsc::Sender<Arrival>) {
    let limit = |span: Span| Duration::from(span);
    let mut backoff = Backoff::new(FIRST_REDIAL, limit(own.timing.reconnect_limit), fastrand::Rng::new());
    loop {
        match Way::open(&link).await {
            Ok((way, tls)) => {
                let since = Instant::now();
                let (ended, has_ended) = oneshot::channel::<()>();
                let arrival =
                    Arrival { way, tls, is_dialled: true, peer: link.target(), from: None, ended: Some(ended) };
                if arrivals.send(arrival).await.is_err() {
                    return;
                }
                // Its end is told by an error: nobody sends anything.
                _ = has_ended.await;
                // What comes up and breaks at once is tried as seldom as what does not come up.
                if since.elapsed() > STRANGER {
                    backoff.reset();
                }
            }
            Err(error) => tracing::debug!(target = link.target(), error, "cannot dial"),
        }
        sleep(backoff.wait()).await;
    }
}
