use super::config::ClientSessionConfig;
use super::error::{RequestError, SessionError};
use super::requests::Requests;
use crate::channel::{ClientChannel, ClientChannelEvent, NotSent, RequestId, TracedMessage};
use crate::service::{CloseSessionRequest, Request, Response};
use crate::types::{ByteString, DateTime, NodeId, StatusCode};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// A client's session with a server, without I/O. It outlives the connections that it goes over.
///
/// ```text
///   connected() ─▶ channel opens ─▶ no session yet: CreateSession ─▶ ActivateSession ─▶ Active
///                        │                                               ▲
///                        └──▶ one of before: ActivateSession ────────────┤
///                                  └─ the server knows it no more: CreateSession
/// ```
///
/// After any call, poll [`ClientSession::poll_transmit`], [`ClientSession::poll_event`] and [`ClientSession::poll_timeout`].
#[derive(Debug)]
pub struct ClientSession {
    pub(super) config: ClientSessionConfig,
    channel: Option<ClientChannel>,
    pub(super) session: Option<Session>,
    pub(super) state: State,
    /// Since when the session is active.
    pub(super) active_since: Option<Instant>,
    requests: Requests<Purpose>,
    pub(super) events: VecDeque<ClientSessionEvent>,
}

/// What the server gave us.
#[derive(Debug, Clone)]
pub(super) struct Session {
    pub(super) id: NodeId,
    pub(super) token: NodeId,
    /// So long the server keeps it while we are away.
    pub(super) timeout: Duration,
    /// What is to be signed at the next activation.
    pub(super) nonce: ByteString,
    pub(super) certificate: ByteString,
    pub(super) largest_request: u32,
    /// One that never was is bound to the channel that it was created over.
    pub(super) was_active: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// No connection, or one whose channel is not open yet.
    Down,
    /// The session is created, or activated.
    Entering,
    Active,
}

#[derive(Debug)]
pub(super) enum Purpose {
    Create {
        nonce: ByteString,
    },
    /// A session of before, or a new one.
    Activate {
        is_new: bool,
    },
    /// Somebody asked.
    Asked,
    Close,
}

/// What happens to a session.
#[derive(Debug, Clone, PartialEq)]
pub enum ClientSessionEvent {
    /// Requests may be sent.
    Active {
        /// Whether it is a new one: what the server kept for the one before is to be taken over, or gone.
        is_new: bool,
    },
    /// The answer to a request, or why there is none.
    Answered(RequestId, Result<Box<Response>, RequestError>),
    /// The connection is of no use any more. Close it; the session may live.
    Down(SessionError),
}

impl ClientSession {
    /// A session that is still to be had.
    #[must_use]
    pub fn new(config: ClientSessionConfig) -> Self {
        Self {
            config,
            channel: None,
            session: None,
            state: State::Down,
            active_since: None,
            requests: Requests::default(),
            events: VecDeque::new(),
        }
    }

    /// A connection to the server is up.
    pub fn connected(&mut self, now: Instant) {
        self.fail_requests();
        self.state = State::Down;
        self.session.take_if(|session| !session.was_active);
        self.channel = Some(ClientChannel::new(self.config.channel.clone(), now));
    }

    /// The connection has ended.
    pub fn disconnected(&mut self) {
        self.channel = None;
        self.state = State::Down;
        self.fail_requests();
    }

    /// The certificate of the server, with its chain; empty where it has shown none.
    #[must_use]
    pub fn server_certificate(&self) -> &[u8] {
        &self.config.channel.server_certificate
    }

    /// The node of the session, where there is one.
    #[must_use]
    pub fn id(&self) -> Option<&NodeId> {
        self.session.as_ref().map(|session| &session.id)
    }

    /// So long the server keeps the session while we are away.
    #[must_use]
    pub fn timeout(&self) -> Option<Duration> {
        self.session.as_ref().map(|session| session.timeout)
    }

    /// So many bytes a request may have; `None` for any.
    #[must_use]
    pub fn largest_request(&self) -> Option<u32> {
        self.session.as_ref().map(|session| session.largest_request).filter(|largest| *largest != 0)
    }

    /// Sends a request, whose answer may take `timeout`. Nothing that is sent is repeated after a connection.
    ///
    /// # Errors
    /// When there is no session now, or the server does not take so large a message.
    pub fn request(
        &mut self,
        (now, wall): (Instant, DateTime),
        request: Request,
        timeout: Duration,
    ) -> Result<RequestId, NotSent> {
        if self.state != State::Active {
            return Err(NotSent::Closed);
        }
        self.send((now, wall), request, timeout, Purpose::Asked)
    }

    pub(super) fn send(
        &mut self,
        (now, wall): (Instant, DateTime),
        mut request: Request,
        timeout: Duration,
        purpose: Purpose,
    ) -> Result<RequestId, NotSent> {
        let channel = self.channel.as_mut().ok_or(NotSent::Closed)?;
        let header = request.header_mut();
        header.authentication_token = self.session.as_ref().map(|session| session.token.clone()).unwrap_or_default();
        header.timestamp = wall;
        header.timeout_hint = u32::try_from(timeout.as_millis()).unwrap_or(u32::MAX);
        let id = channel.request(request)?;
        self.requests.sent(id, now + timeout, purpose);
        Ok(id)
    }

    /// Ends the session in order; with its subscriptions, or leaving them to be taken over.
    pub fn close(&mut self, (now, wall): (Instant, DateTime), delete_subscriptions: bool) {
        if self.state == State::Active {
            let request = CloseSessionRequest { delete_subscriptions, ..CloseSessionRequest::default() };
            let timeout = self.config.request_timeout;
            // What cannot be sent ends with the connection.
            _ = self.send((now, wall), request.into(), timeout, Purpose::Close);
            self.state = State::Entering;
        }
    }

    /// Bytes that came, however they were cut up.
    pub fn handle_input(&mut self, (now, wall): (Instant, DateTime), bytes: &[u8]) {
        if let Some(channel) = &mut self.channel {
            channel.handle_input(now, bytes);
        }
        self.take_events(now, wall);
    }

    /// The moment of [`ClientSession::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, (now, wall): (Instant, DateTime)) {
        if let Some(channel) = &mut self.channel {
            channel.handle_timeout(now);
        }
        while let Some((id, purpose)) = self.requests.expired(now) {
            self.answered((now, wall), id, purpose, Err(RequestError::Timeout));
        }
        self.take_events(now, wall);
    }

    /// When to call [`ClientSession::handle_timeout`], if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let channel = self.channel.as_ref().and_then(ClientChannel::poll_timeout);
        channel.into_iter().chain(self.requests.deadline()).min()
    }

    /// Appends what is to be sent; `false` when there is nothing.
    #[must_use]
    pub fn poll_transmit(&mut self, out: &mut Vec<u8>) -> bool {
        self.channel.as_mut().is_some_and(|channel| channel.poll_transmit(out))
    }

    /// What happened, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<ClientSessionEvent> {
        self.events.pop_front()
    }

    /// What went over the connection, the oldest first, until `None`.
    #[must_use]
    pub fn poll_message(&mut self) -> Option<TracedMessage> {
        self.channel.as_mut().and_then(ClientChannel::poll_message)
    }

    fn take_events(&mut self, now: Instant, wall: DateTime) {
        while let Some(event) = self.channel.as_mut().and_then(ClientChannel::poll_event) {
            let (id, answer) = match event {
                ClientChannelEvent::Opened => {
                    self.enter((now, wall));
                    continue;
                }
                ClientChannelEvent::Renewed => continue,
                ClientChannelEvent::Closed(error) => {
                    self.down(error.into());
                    continue;
                }
                ClientChannelEvent::Response(id, response) => {
                    let status = response.header().service_result;
                    (id, if status.is_bad() { Err(RequestError::Fault(status)) } else { Ok(response) })
                }
                ClientChannelEvent::Unreadable(id, error) => (id, Err(error.into())),
                ClientChannelEvent::Aborted(id, why) => (id, Err(RequestError::Aborted(why))),
            };
            if let Some(purpose) = self.requests.answered(id) {
                self.answered((now, wall), id, purpose, answer);
            }
        }
    }

    fn down(&mut self, error: SessionError) {
        self.disconnected();
        self.events.push_back(ClientSessionEvent::Down(error));
    }

    fn fail_requests(&mut self) {
        for (id, purpose) in self.requests.drain() {
            if matches!(purpose, Purpose::Asked) {
                self.events.push_back(ClientSessionEvent::Answered(id, Err(RequestError::Lost)));
            }
        }
    }

    fn answered(
        &mut self,
        at: (Instant, DateTime),
        id: RequestId,
        purpose: Purpose,
        answer: Result<Box<Response>, RequestError>,
    ) {
        let entered = match purpose {
            Purpose::Asked => {
                let refusal = answer.as_ref().err().and_then(RequestError::session_refusal);
                self.events.push_back(ClientSessionEvent::Answered(id, answer));
                match refusal {
                    Some(status) if is_session_gone(status) => {
                        // What else was asked in it is answered in the same way, or not at all.
                        self.fail_requests();
                        self.session = None;
                        let active = self.active_since.map(|since| at.0.saturating_duration_since(since));
                        if active.is_some_and(|active| active >= SHORTEST) {
                            self.enter(at);
                        } else {
                            // One after the other that ends at once would be entered without a pause.
                            self.down(SessionError::Refused("a request", status));
                        }
                    }
                    Some(status) => self.down(SessionError::Refused("a request", status)),
                    None => {}
                }
                return;
            }
            Purpose::Close => {
                self.session = None;
                if let Some(channel) = &mut self.channel {
                    channel.close();
                }
                return;
            }
            Purpose::Create { nonce } => self.created(at, &nonce, answer),
            Purpose::Activate { is_new } => match self.activated(at.0, is_new, answer) {
                // The server has forgotten the session of before.
                Err(SessionError::Refused(_, status)) if !is_new && is_session_gone(status) => {
                    self.session = None;
                    self.enter(at);
                    Ok(())
                }
                other => other,
            },
        };
        if let Err(error) = entered {
            self.down(error);
        }
    }

    /// The channel is open.
    fn enter(&mut self, at: (Instant, DateTime)) {
        self.state = State::Entering;
        let entered = match self.session.is_some() {
            true => self.activate(at, false),
            false => self.create(at),
        };
        if let Err(error) = entered {
            self.down(error);
        }
    }
}

/// A session that has been active for less is not entered anew over the same connection.
const SHORTEST: Duration = Duration::from_secs(1);

/// Whether a session has to be created anew.
const fn is_session_gone(status: StatusCode) -> bool {
    matches!(
        status.code(),
        StatusCode::BAD_SESSION_ID_INVALID | StatusCode::BAD_SESSION_CLOSED | StatusCode::BAD_SESSION_NOT_ACTIVATED
    )
}
