use super::config::ClientSessionConfig;
use super::endpoints::same_endpoints;
use super::error::{RequestError, SessionError};
use super::requests::Requests;
use crate::channel::{ClientChannel, ClientChannelEvent, NotSent, RequestId};
use crate::security::{SecurityPolicy, leaf_certificate, public_key};
use crate::service::{
    ActivateSessionRequest, ActivateSessionResponse, ApplicationDescription, ApplicationType, CloseSessionRequest,
    CreateSessionRequest, CreateSessionResponse, Request, Response, SignatureData,
};
use crate::types::{ByteString, DateTime, LocalizedText, NodeId, StatusCode};
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
    config: ClientSessionConfig,
    channel: Option<ClientChannel>,
    session: Option<Session>,
    state: State,
    requests: Requests<Purpose>,
    events: VecDeque<ClientSessionEvent>,
}

/// What the server gave us.
#[derive(Debug, Clone)]
struct Session {
    id: NodeId,
    token: NodeId,
    /// So long the server keeps it while we are away.
    timeout: Duration,
    /// What is to be signed at the next activation.
    nonce: ByteString,
    certificate: ByteString,
    largest_request: u32,
    /// One that never was is bound to the channel that it was created over.
    was_active: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// No connection, or one whose channel is not open yet.
    Down,
    /// The session is created, or activated.
    Entering,
    Active,
}

#[derive(Debug)]
enum Purpose {
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

    fn send(
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
                if let Err(RequestError::Fault(status)) = &answer
                    && is_session_gone(*status)
                {
                    self.session = None;
                    self.state = State::Entering;
                    self.events.push_back(ClientSessionEvent::Answered(id, answer));
                    return self.enter(at);
                }
                self.events.push_back(ClientSessionEvent::Answered(id, answer));
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
            Purpose::Activate { is_new } => match self.activated(is_new, answer) {
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

    fn create(&mut self, at: (Instant, DateTime)) -> Result<(), SessionError> {
        let mut bytes = vec![0; NONCE];
        getrandom::fill(&mut bytes).map_err(|_| crate::SecurityError)?;
        let (nonce, channel) = (ByteString::from(bytes), &self.config.channel);
        let is_secure = channel.policy != SecurityPolicy::None;
        let own = channel.own.as_ref().filter(|_| is_secure);
        let request = CreateSessionRequest {
            client_description: ApplicationDescription {
                application_uri: Some(self.config.application_uri.clone()),
                application_name: LocalizedText { locale: None, text: Some(self.config.application_name.clone()) },
                application_type: ApplicationType::Client,
                ..ApplicationDescription::default()
            },
            endpoint_url: Some(channel.url.clone()),
            session_name: Some(self.config.session_name.clone()),
            client_nonce: nonce.clone(),
            client_certificate: ByteString(own.map(|own| own.certificate.clone())),
            requested_session_timeout: self.config.session_timeout.as_secs_f64() * 1000.0,
            max_response_message_size: channel.limits.receive_message,
            ..CreateSessionRequest::default()
        };
        let sent = self.send(at, request.into(), self.config.request_timeout, Purpose::Create { nonce });
        sent.map(|_| ()).map_err(|error| SessionError::Request("CreateSession", error.into()))
    }

    fn created(
        &mut self,
        at: (Instant, DateTime),
        nonce: &ByteString,
        answer: Result<Box<Response>, RequestError>,
    ) -> Result<(), SessionError> {
        let Response::CreateSession(answer) = *told("CreateSession", answer)? else {
            return Err(SessionError::Answer("CreateSession"));
        };
        self.check_server(&answer, nonce)?;
        if let Some(discovered) = &self.config.discovered {
            same_endpoints(discovered, &answer.server_endpoints).map_err(SessionError::Endpoints)?;
        }
        let CreateSessionResponse { session_id, authentication_token, revised_session_timeout, server_nonce, .. } =
            answer;
        // What is no span at all would be no session at all.
        let timeout =
            Duration::try_from_secs_f64(revised_session_timeout / 1000.0).unwrap_or(self.config.session_timeout);
        self.session = Some(Session {
            id: session_id,
            token: authentication_token,
            timeout,
            nonce: server_nonce,
            certificate: answer.server_certificate,
            largest_request: answer.max_request_message_size,
            was_active: false,
        });
        self.activate(at, true)
    }

    /// Whether the server is who its channel says.
    ///
    /// Source: OPC 10000-4, section 5.7.2.
    fn check_server(&self, answer: &CreateSessionResponse, nonce: &ByteString) -> Result<(), SessionError> {
        let channel = &self.config.channel;
        if channel.policy == SecurityPolicy::None {
            return Ok(());
        }
        let certificate = leaf_certificate(answer.server_certificate.as_bytes());
        if certificate != leaf_certificate(&channel.server_certificate) {
            return Err(SessionError::Certificate);
        }
        if answer.server_nonce.as_bytes().len() < NONCE {
            return Err(SessionError::Nonce);
        }
        let own = channel.own.as_ref().map(|own| own.certificate.as_slice()).unwrap_or_default();
        let key = public_key(certificate).map_err(crate::ChannelError::from)?;
        // Some sign all of a chain.
        let is_signed = [leaf_certificate(own), own].iter().any(|own| {
            let signed = [*own, nonce.as_bytes()].concat();
            key.verify(channel.policy, &signed, answer.server_signature.signature.as_bytes()).is_ok()
        });
        if is_signed { Ok(()) } else { Err(SessionError::Signature) }
    }

    fn activate(&mut self, at: (Instant, DateTime), is_new: bool) -> Result<(), SessionError> {
        let Some(session) = &self.session else { return Ok(()) };
        let channel = &self.config.channel;
        let (certificate, nonce) = (session.certificate.as_bytes(), session.nonce.as_bytes());
        let client_signature = match &channel.own {
            Some(own) if channel.policy != SecurityPolicy::None => SignatureData {
                algorithm: channel.policy.signature_uri().map(str::to_owned),
                signature: own.key.sign(channel.policy, &[leaf_certificate(certificate), nonce].concat())?.into(),
            },
            _ => SignatureData::default(),
        };
        // Without security, discovery alone has told the certificate that a password is encrypted for.
        let certificate =
            if certificate.is_empty() { self.config.endpoint.server_certificate.as_bytes() } else { certificate };
        let (user_identity_token, user_token_signature) =
            self.config.user.token(&self.config.endpoint, (channel.policy, channel.mode), (certificate, nonce))?;
        let request = ActivateSessionRequest {
            client_signature,
            user_identity_token,
            user_token_signature,
            ..ActivateSessionRequest::default()
        };
        let sent = self.send(at, request.into(), self.config.request_timeout, Purpose::Activate { is_new });
        sent.map(|_| ()).map_err(|error| SessionError::Request("ActivateSession", error.into()))
    }

    fn activated(&mut self, is_new: bool, answer: Result<Box<Response>, RequestError>) -> Result<(), SessionError> {
        let Response::ActivateSession(ActivateSessionResponse { server_nonce, .. }) = *told("ActivateSession", answer)?
        else {
            return Err(SessionError::Answer("ActivateSession"));
        };
        if let Some(session) = &mut self.session {
            let is_secure = self.config.channel.policy != SecurityPolicy::None;
            if is_secure && (server_nonce.as_bytes().len() < NONCE || server_nonce == session.nonce) {
                return Err(SessionError::Nonce);
            }
            (session.nonce, session.was_active) = (server_nonce, true);
        }
        self.state = State::Active;
        self.events.push_back(ClientSessionEvent::Active { is_new });
        Ok(())
    }
}

/// Bytes of a nonce of a session at the least.
///
/// Source: OPC 10000-4, section 5.7.2.2 (table 15).
const NONCE: usize = 32;

fn told(service: &'static str, answer: Result<Box<Response>, RequestError>) -> Result<Box<Response>, SessionError> {
    answer.map_err(|error| match error {
        RequestError::Fault(status) => SessionError::Refused(service, status),
        other => SessionError::Request(service, other),
    })
}

/// Whether a session has to be created anew.
const fn is_session_gone(status: StatusCode) -> bool {
    matches!(
        status.code(),
        StatusCode::BAD_SESSION_ID_INVALID | StatusCode::BAD_SESSION_CLOSED | StatusCode::BAD_SESSION_NOT_ACTIVATED
    )
}
