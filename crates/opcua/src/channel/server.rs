use super::assembler::Assembled;
use super::conversation::Conversation;
use super::error::ChannelError;
use super::limits::TransportLimits;
use super::opening::{Credentials, Opening, Parties, nonce, seal};
use super::splitter::SplitError;
use super::token::Token;
use crate::codec::{Binary, Limits};
use crate::security::{SecurityPolicy, leaf_certificate};
use crate::service::{
    ChannelSecurityToken, MessageError, MessageSecurityMode, OpenSecureChannelRequest, OpenSecureChannelResponse,
    Request, RequestHeader, Response, ResponseHeader, SecurityTokenRequestType, ServiceFault,
};
use crate::transport::{ChunkType, ErrorMessage, Frame, FrameDecoder, Hello, MessageType, encode_frame};
use crate::types::{DateTime, StatusCode};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// A server's side of a secure channel, without I/O.
///
/// After any call, poll [`ServerChannel::poll_transmit`], [`ServerChannel::poll_event`] and [`ServerChannel::poll_timeout`].
#[derive(Debug)]
pub struct ServerChannel {
    config: ServerChannelConfig,
    state: State,
    decoder: FrameDecoder,
    conversation: Conversation,
    /// The client's certificate.
    certificate: Vec<u8>,
    last_token: u32,
    url: String,
    out: Vec<u8>,
    events: VecDeque<ServerChannelEvent>,
}

#[derive(Debug)]
enum State {
    Greeting {
        deadline: Instant,
    },
    /// Greeted; no channel yet.
    Waiting {
        deadline: Instant,
    },
    /// The host decides whether the client may open the channel.
    Asked(Asked),
    Open,
    Closed,
}

#[derive(Debug)]
struct Asked {
    request: OpenSecureChannelRequest,
    id: u32,
}

/// What a server offers.
#[derive(Debug, Clone)]
pub struct ServerChannelConfig {
    /// The number of the channel: no other one that is open has it.
    pub channel: u32,
    /// Who the server is; needed with every policy but `None`.
    pub own: Option<Credentials>,
    /// What is spoken.
    pub security: Vec<(SecurityPolicy, MessageSecurityMode)>,
    /// What is taken.
    pub limits: TransportLimits,
    /// The longest that a token lives.
    pub longest_token: Duration,
    /// How long a client may take until the channel is open.
    pub timeout: Duration,
}

/// What happens on a server's channel.
#[derive(Debug, Clone, PartialEq)]
pub enum ServerChannelEvent {
    /// A client wants to open it: [`ServerChannel::accept`] or [`ServerChannel::refuse`] it.
    Opening {
        /// The algorithms.
        policy: SecurityPolicy,
        /// What is done to messages.
        mode: MessageSecurityMode,
        /// The client's certificate, perhaps followed by those of its issuers.
        certificate: Vec<u8>,
    },
    /// It is open.
    Opened,
    /// Its keys are new.
    Renewed,
    /// A request came: [`ServerChannel::respond`] to it.
    Request(u32, Box<Request>),
    /// The client gives a request up.
    Aborted(u32, ErrorMessage),
    /// It has ended; in order, where there is no error.
    Closed(Option<ChannelError>),
}

impl ServerChannel {
    /// Waits for the first word of a client on a connection that is up.
    #[must_use]
    pub fn new(config: ServerChannelConfig, now: Instant) -> Self {
        let decoder = FrameDecoder::new(usize::try_from(config.limits.receive_buffer).unwrap_or(usize::MAX));
        let conversation = Conversation::new(SecurityPolicy::None, MessageSecurityMode::None, config.limits);
        let state = State::Greeting { deadline: now + config.timeout };
        Self {
            config,
            state,
            decoder,
            conversation,
            certificate: Vec::new(),
            last_token: 0,
            url: String::new(),
            out: Vec::new(),
            events: VecDeque::new(),
        }
    }

    /// The address that the client used.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    /// The client's certificate; empty without security.
    #[must_use]
    pub fn certificate(&self) -> &[u8] {
        leaf_certificate(&self.certificate)
    }

    /// How it is secured.
    #[must_use]
    pub const fn security(&self) -> (SecurityPolicy, MessageSecurityMode) {
        (self.conversation.policy, self.conversation.mode)
    }

    /// Lets the client open the channel that it asked for. `wall` is the time of day.
    pub fn accept(&mut self, now: Instant, wall: DateTime) {
        let State::Asked(asked) = std::mem::replace(&mut self.state, State::Closed) else { return };
        self.state = State::Open;
        match self.give_token(now, wall, &asked.request, asked.id) {
            Ok(()) => self.events.push_back(ServerChannelEvent::Opened),
            Err(error) => self.fail(error),
        }
        self.take_frames(now, wall);
    }

    /// Does not let the client open the channel, and says why.
    pub fn refuse(&mut self, error: StatusCode, reason: &str) {
        self.say(error, reason);
        self.state = State::Closed;
    }

    /// Answers a request. What the client does not take is told as a fault in its place.
    pub fn respond(&mut self, request: u32, response: &Response) {
        if !matches!(self.state, State::Open) {
            return;
        }
        let sent = self.conversation.send(MessageType::Message, request, &response.to_bytes(), &mut self.out);
        if matches!(sent, Err(SplitError::Size { .. } | SplitError::Chunks { .. })) {
            let mut fault = ServiceFault::default();
            fault.response_header.request_handle = response.header().request_handle;
            fault.response_header.timestamp = response.header().timestamp;
            fault.response_header.service_result = StatusCode::BAD_RESPONSE_TOO_LARGE;
            let body = Response::from(fault).to_bytes();
            // It is small.
            _ = self.conversation.send(MessageType::Message, request, &body, &mut self.out);
        }
    }

    /// Bytes that came, however they were cut up.
    pub fn handle_input(&mut self, now: Instant, wall: DateTime, bytes: &[u8]) {
        self.decoder.push(bytes);
        self.take_frames(now, wall);
    }

    /// While the host decides, nothing more is looked at.
    fn take_frames(&mut self, now: Instant, wall: DateTime) {
        while !matches!(self.state, State::Closed | State::Asked(_)) {
            let taken = match self.decoder.poll_frame() {
                Ok(None) => return,
                Ok(Some(frame)) => self.take(now, wall, frame),
                Err(error) => Err(error.into()),
            };
            if let Err(error) = taken {
                self.fail(error);
            }
        }
    }

    /// The moment of [`ServerChannel::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        if self.poll_timeout().is_some_and(|deadline| now >= deadline) {
            self.fail(ChannelError::Timeout("the opening of the channel, or a new token,"));
        }
    }

    /// When to call [`ServerChannel::handle_timeout`], if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        match self.state {
            State::Greeting { deadline } | State::Waiting { deadline } => Some(deadline),
            State::Open => self.conversation.tokens.current.as_ref().map(Token::ends_at),
            State::Asked(_) | State::Closed => None,
        }
    }

    /// Appends what is to be sent; `false` when there is nothing.
    #[must_use]
    pub fn poll_transmit(&mut self, out: &mut Vec<u8>) -> bool {
        let has_some = !self.out.is_empty();
        out.append(&mut self.out);
        has_some
    }

    /// What happened, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<ServerChannelEvent> {
        self.events.pop_front()
    }

    /// As if a channel had been opened without security, and frames up to this number had come.
    #[cfg(test)]
    pub(crate) fn skip_to(&mut self, (channel, token): (u32, u32), number: u32, now: Instant) {
        self.conversation.channel = channel;
        let lifetime = Duration::from_secs(60);
        self.conversation.tokens.offer(Token::new(SecurityPolicy::None, (token, lifetime), (&[], &[]), now));
        // The first number may be any.
        _ = self.conversation.incoming.take(number);
        self.state = State::Open;
    }

    fn say(&mut self, error: StatusCode, reason: &str) {
        let message = ErrorMessage { error, reason: Some(reason.to_owned()) };
        encode_frame(MessageType::Error, ChunkType::Final, &message.to_bytes(), &mut self.out);
    }

    fn fail(&mut self, error: ChannelError) {
        if !matches!(self.state, State::Closed) {
            self.say(error.status(), "");
            self.state = State::Closed;
            self.events.push_back(ServerChannelEvent::Closed(Some(error)));
        }
    }

    fn take(&mut self, now: Instant, wall: DateTime, frame: Frame) -> Result<(), ChannelError> {
        match (frame.message, &self.state) {
            (MessageType::Hello, State::Greeting { deadline }) => {
                let (hello, deadline) = (Hello::from_bytes(frame.body())?, *deadline);
                let (limits, answer) = self.config.limits.greeted(&hello).ok_or(ChannelError::Limits)?;
                self.conversation.limits = limits;
                self.decoder.limit(usize::try_from(limits.receive_buffer).unwrap_or(usize::MAX));
                self.url = hello.endpoint_url.unwrap_or_default();
                encode_frame(MessageType::Acknowledge, ChunkType::Final, &answer.to_bytes(), &mut self.out);
                self.state = State::Waiting { deadline };
                Ok(())
            }
            (MessageType::OpenChannel, State::Waiting { .. }) => self.open(frame),
            (MessageType::OpenChannel, State::Open) => self.renew(now, wall, frame),
            (MessageType::Message, State::Open) => self.message(now, wall, frame),
            (MessageType::CloseChannel, State::Open) => {
                self.conversation.take(frame, now)?;
                self.state = State::Closed;
                self.events.push_back(ServerChannelEvent::Closed(None));
                Ok(())
            }
            (MessageType::Hello, _) => Err(ChannelError::Unexpected("a second greeting", "a message")),
            (_, State::Greeting { .. }) => Err(ChannelError::Unexpected("a message", "a greeting")),
            _ => Err(ChannelError::Unexpected("a message", "the opening of a channel")),
        }
    }

    fn request_of(
        frame: Opening,
        own: Option<&Credentials>,
        incoming: &mut super::sequence::Incoming,
    ) -> Result<Asked, ChannelError> {
        let chunk = frame.open(own)?;
        incoming.take(chunk.sequence_number)?;
        match Request::from_bytes(&chunk.body, Limits::default())? {
            Request::OpenSecureChannel(request) => Ok(Asked { request, id: chunk.request_id }),
            _ => Err(ChannelError::Unexpected("another request", "OpenSecureChannel")),
        }
    }

    fn open(&mut self, frame: Frame) -> Result<(), ChannelError> {
        let opening = Opening::read(frame)?;
        let (policy, certificate) = (opening.policy, opening.certificate.clone());
        let asked = Self::request_of(opening, self.config.own.as_ref(), &mut self.conversation.incoming)?;
        let mode = asked.request.security_mode;
        if asked.request.request_type != SecurityTokenRequestType::Issue {
            return Err(ChannelError::Agreement("a channel that is not open cannot be renewed"));
        }
        if !self.config.security.contains(&(policy, mode)) {
            return Err(ChannelError::Agreement("the policy and the mode are not offered together"));
        }
        (self.conversation.policy, self.conversation.mode) = (policy, mode);
        self.conversation.channel = self.config.channel;
        self.certificate.clone_from(&certificate);
        self.state = State::Asked(asked);
        self.events.push_back(ServerChannelEvent::Opening { policy, mode, certificate });
        Ok(())
    }

    fn renew(&mut self, now: Instant, wall: DateTime, frame: Frame) -> Result<(), ChannelError> {
        let opening = Opening::read(frame)?;
        let own = self.conversation.channel;
        if opening.channel != own {
            return Err(ChannelError::Channel { got: opening.channel, own });
        }
        let is_same = opening.policy == self.conversation.policy && opening.is_from(&self.certificate);
        if !is_same {
            return Err(ChannelError::OtherCertificate("a channel is renewed by who opened it"));
        }
        let asked = Self::request_of(opening, self.config.own.as_ref(), &mut self.conversation.incoming)?;
        if asked.request.security_mode != self.conversation.mode {
            return Err(ChannelError::Agreement("a channel keeps its mode"));
        }
        if asked.request.request_type != SecurityTokenRequestType::Renew {
            return Err(ChannelError::Agreement("a channel that is open cannot be opened"));
        }
        self.give_token(now, wall, &asked.request, asked.id)?;
        self.events.push_back(ServerChannelEvent::Renewed);
        Ok(())
    }

    fn give_token(
        &mut self,
        now: Instant,
        wall: DateTime,
        request: &OpenSecureChannelRequest,
        id: u32,
    ) -> Result<(), ChannelError> {
        let policy = self.conversation.policy;
        let client_nonce = request.client_nonce.as_bytes();
        if client_nonce.len() != policy.nonce_length() {
            return Err(ChannelError::Agreement("the client's part of the keys has another length"));
        }
        let server_nonce = nonce(policy)?;
        self.last_token = self.last_token.wrapping_add(1);
        let wanted = Duration::from_millis(request.requested_lifetime.into());
        let lifetime = if wanted.is_zero() { self.config.longest_token } else { wanted.min(self.config.longest_token) };
        let response = OpenSecureChannelResponse {
            response_header: answer_to(&request.request_header, wall),
            server_protocol_version: 0,
            security_token: ChannelSecurityToken {
                channel_id: self.conversation.channel,
                token_id: self.last_token,
                created_at: wall,
                revised_lifetime: u32::try_from(lifetime.as_millis()).unwrap_or(u32::MAX),
            },
            server_nonce: server_nonce.clone(),
        };
        let parties = Parties { policy, own: self.config.own.as_ref(), other: &self.certificate };
        let numbers = (self.conversation.outgoing.next(), id);
        seal(self.conversation.channel, &parties, numbers, &Response::from(response).to_bytes(), &mut self.out)?;
        let nonces = (server_nonce.as_bytes(), client_nonce);
        self.conversation.tokens.offer(Token::new(policy, (self.last_token, lifetime), nonces, now));
        Ok(())
    }

    fn message(&mut self, now: Instant, wall: DateTime, frame: Frame) -> Result<(), ChannelError> {
        match self.conversation.take(frame, now)? {
            None => {}
            Some(Assembled::Aborted { request_id, why }) => {
                self.events.push_back(ServerChannelEvent::Aborted(request_id, why));
            }
            Some(Assembled::Whole { request_id, body }) => match Request::from_bytes(&body, Limits::default()) {
                Ok(request) => self.events.push_back(ServerChannelEvent::Request(request_id, Box::new(request))),
                Err(error) => {
                    let mut fault = ServiceFault::default();
                    fault.response_header.timestamp = wall;
                    fault.response_header.service_result = match error {
                        MessageError::Unknown(_) => StatusCode::BAD_SERVICE_UNSUPPORTED,
                        MessageError::Malformed { .. } => StatusCode::BAD_DECODING_ERROR,
                    };
                    self.respond(request_id, &Response::from(fault));
                }
            },
        }
        Ok(())
    }
}

/// The header of an answer to a request.
fn answer_to(request: &RequestHeader, wall: DateTime) -> ResponseHeader {
    ResponseHeader { timestamp: wall, request_handle: request.request_handle, ..ResponseHeader::default() }
}
