use super::{accepted, now, reverse, until};
use crate::channel::{ServerChannel, ServerChannelConfig, ServerChannelEvent, TransportLimits};
use crate::server::{Answer, ChannelInfo, Now, Process, Server, Users};
use crate::transport::ReverseHello;
use crate::types::{DateTime, StatusCode};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fmt;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Notify, mpsc};
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// A [`Server`] on TCP listeners, with what stands behind its nodes.
pub struct Host<P> {
    config: HostConfig,
    users: Box<dyn Users + Send + Sync>,
    state: Mutex<State<P>>,
    /// Something was asked that changes when time is up.
    changed: Notify,
    /// Faults: how long an answer takes, and how far the clock is ahead, in milliseconds.
    delay: AtomicU64,
    ahead: AtomicI64,
}

/// How connections are taken.
#[derive(Clone)]
pub struct HostConfig {
    /// What is taken on a connection.
    pub limits: TransportLimits,
    /// The longest that keys are used.
    pub longest_token: Duration,
    /// How long a client may take until its channel is open.
    pub timeout: Duration,
    /// So many connections at a time.
    pub most_channels: usize,
    /// Whether a client with this certificate may open a channel.
    pub trust: Trust,
}

/// Looks at the certificate of a client, which may be followed by those of its issuers.
pub type Trust = Arc<dyn Fn(&[u8]) -> Result<(), StatusCode> + Send + Sync>;

struct State<P> {
    server: Server,
    process: P,
    /// The ways to those who wait for answers, by their channels.
    ways: HashMap<u32, mpsc::Sender<Answer>>,
    last_channel: u32,
}

/// So many answers wait for a client that does not read before it is given up.
const UNREAD: usize = 64;
/// So long a client may take to read what is sent.
const PATIENCE: Duration = Duration::from_secs(30);
const READ_BYTES: usize = 65_536;

impl<P> fmt::Debug for Host<P> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Host").finish_non_exhaustive()
    }
}

impl fmt::Debug for HostConfig {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { limits, longest_token, timeout, most_channels, trust: _ } = self;
        let mut shown = f.debug_struct("HostConfig");
        shown.field("limits", limits).field("longest_token", longest_token).field("timeout", timeout);
        shown.field("most_channels", most_channels).finish_non_exhaustive()
    }
}

impl<P: Process + Send + 'static> Host<P> {
    /// A server that nobody reaches yet.
    pub fn new(server: Server, process: P, users: impl Users + Send + Sync + 'static, config: HostConfig) -> Arc<Self> {
        let state = Mutex::new(State { server, process, ways: HashMap::new(), last_channel: 0 });
        let (delay, ahead) = (AtomicU64::new(0), AtomicI64::new(0));
        Arc::new(Self { config, users: Box::new(users), state, changed: Notify::new(), delay, ahead })
    }

    fn now(&self) -> Now {
        let (now, wall) = now();
        let ahead = self.ahead.load(Ordering::Relaxed);
        (now, DateTime::from_unix_millis(wall.unix_millis().unwrap_or_default().saturating_add(ahead)))
    }

    /// Lets everything that is sent take so long. A fault.
    pub fn set_delay(&self, delay: Duration) {
        self.delay.store(u64::try_from(delay.as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    /// Sets the clock of the server ahead. A fault.
    pub fn set_clock_ahead(&self, ahead: Duration) {
        self.ahead.store(i64::try_from(ahead.as_millis()).unwrap_or(i64::MAX), Ordering::Relaxed);
    }

    /// Closes all connections; clients may connect anew.
    pub fn disconnect(&self) {
        self.state.lock().ways.clear();
    }

    /// Does something with the server and what stands behind it, and sends what comes of it.
    pub fn with<R>(&self, act: impl FnOnce(&mut Server, &mut P, Now) -> R) -> R {
        let mut state = self.state.lock();
        let State { server, process, .. } = &mut *state;
        let result = act(server, process, self.now());
        state.send();
        drop(state);
        self.changed.notify_one();
        result
    }

    /// Answers clients until `stop` is cancelled, then closes their connections and the listener.
    ///
    /// # Errors
    /// When the listener fails for good; a client that misbehaves only loses its own connection.
    pub async fn serve(self: Arc<Self>, listener: TcpListener, stop: CancellationToken) -> io::Result<()> {
        let clients = TaskTracker::new();
        let (host, ended) = (Arc::clone(&self), stop.child_token());
        let timing = ended.clone();
        clients.spawn(async move { host.keep_time(timing).await });
        let result = loop {
            match accepted(&listener, &stop).await {
                Ok(Some(stream)) => {
                    let (host, stop) = (Arc::clone(&self), ended.clone());
                    clients.spawn(async move { host.take(stream, stop).await });
                }
                Ok(None) => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        ended.cancel();
        clients.close();
        clients.wait().await;
        result
    }

    /// Calls a client that cannot reach the server, and answers it, again and again until `stop` is cancelled. Another task has to
    /// [`Host::serve`], for time to pass.
    pub async fn call(self: Arc<Self>, client: SocketAddr, pause: Duration, stop: CancellationToken) {
        let hello = {
            let state = self.state.lock();
            let description = state.server.sessions().description();
            ReverseHello {
                server_uri: Some(description.application_uri.clone()),
                endpoint_url: Some(description.url.clone()),
            }
        };
        loop {
            let calling = async {
                let Ok(mut stream) = TcpStream::connect(client).await else { return };
                if reverse::say(&mut stream, &hello).await.is_ok() {
                    self.take(stream, stop.clone()).await;
                }
            };
            tokio::select! {
                () = calling => {}
                () = stop.cancelled() => return,
            }
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = stop.cancelled() => return,
            }
        }
    }

    /// Lets time pass for the server.
    async fn keep_time(&self, stop: CancellationToken) {
        loop {
            let due = self.state.lock().server.poll_timeout();
            tokio::select! {
                () = until(due) => {
                    let mut state = self.state.lock();
                    state.server.handle_timeout(self.now());
                    state.send();
                }
                () = self.changed.notified() => {}
                () = stop.cancelled() => return,
            }
        }
    }

    async fn take(&self, stream: TcpStream, stop: CancellationToken) {
        let (way, answers) = mpsc::channel(UNREAD);
        let channel = {
            let mut state = self.state.lock();
            if state.ways.len() >= self.config.most_channels {
                return;
            }
            loop {
                // 0 is no channel, and one that is still open is no other's.
                state.last_channel = state.last_channel.wrapping_add(1).max(1);
                let channel = state.last_channel;
                if let Entry::Vacant(place) = state.ways.entry(channel) {
                    place.insert(way);
                    break channel;
                }
            }
        };
        // A client that breaks off or sends nonsense is closed; there is nobody to tell.
        let _ = stream.set_nodelay(true);
        tokio::select! {
            _ = self.converse(stream, channel, answers) => {}
            () = stop.cancelled() => {}
        }
        self.state.lock().ways.remove(&channel);
    }

    async fn converse(&self, mut stream: TcpStream, id: u32, mut answers: mpsc::Receiver<Answer>) -> io::Result<()> {
        let described = self.state.lock().server.sessions().description().clone();
        let config = ServerChannelConfig {
            channel: id,
            own: described.own,
            security: described.security,
            limits: self.config.limits,
            longest_token: self.config.longest_token,
            timeout: self.config.timeout,
        };
        let mut channel = ServerChannel::new(config, now().0);
        let (mut incoming, mut outgoing) = (vec![0; READ_BYTES], Vec::new());
        loop {
            let is_over = self.handle_events(id, &mut channel);
            outgoing.clear();
            if channel.poll_transmit(&mut outgoing) {
                match self.delay.load(Ordering::Relaxed) {
                    0 => {}
                    delay => tokio::time::sleep(Duration::from_millis(delay)).await,
                }
                timeout(PATIENCE, stream.write_all(&outgoing)).await.map_err(|_| io::ErrorKind::TimedOut)??;
            }
            if is_over {
                return stream.shutdown().await;
            }
            let due = channel.poll_timeout();
            tokio::select! {
                length = stream.read(&mut incoming) => match length? {
                    0 => return Ok(()),
                    length => {
                        let (now, wall) = self.now();
                        channel.handle_input(now, wall, incoming.get(..length).unwrap_or_default());
                    }
                },
                answer = answers.recv() => match answer {
                    Some(answer) => channel.respond(answer.request, &answer.response),
                    // It did not read for too long.
                    None => return Ok(()),
                },
                () = until(due) => channel.handle_timeout(now().0),
            }
        }
    }

    /// Carries out what was asked; tells whether the channel has ended.
    fn handle_events(&self, id: u32, channel: &mut ServerChannel) -> bool {
        while let Some(event) = channel.poll_event() {
            match event {
                ServerChannelEvent::Opening { certificate, .. } => match (self.config.trust)(&certificate) {
                    Ok(()) => {
                        let (now, wall) = self.now();
                        channel.accept(now, wall);
                    }
                    Err(status) => channel.refuse(status, "the certificate is not trusted"),
                },
                ServerChannelEvent::Request(number, request) => {
                    let ((policy, mode), certificate) = (channel.security(), channel.certificate().to_vec());
                    let info = ChannelInfo { id, policy, mode, certificate: &certificate };
                    let mut state = self.state.lock();
                    let State { server, process, .. } = &mut *state;
                    let answer = server.handle(self.now(), info, (number, &request), (&*self.users, process));
                    state.send();
                    drop(state);
                    self.changed.notify_one();
                    if let Some(answer) = answer {
                        channel.respond(answer.request, &answer.response);
                    }
                }
                ServerChannelEvent::Closed(_) => return true,
                ServerChannelEvent::Opened | ServerChannelEvent::Renewed | ServerChannelEvent::Aborted(..) => {}
            }
        }
        false
    }
}

impl<P> State<P> {
    /// Hands out answers to requests that had to wait. Who does not read is given up.
    fn send(&mut self) {
        for answer in self.server.take_answers() {
            let id = answer.channel;
            if self.ways.get(&id).is_some_and(|way| way.try_send(answer).is_err()) {
                self.ways.remove(&id);
            }
        }
    }
}
