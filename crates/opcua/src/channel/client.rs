use super::assembler::Assembled;
use super::conversation::Conversation;
use super::error::ChannelError;
use super::limits::TransportLimits;
use super::opening::{Credentials, Opening, Parties, nonce, seal};
use super::splitter::SplitError;
use super::token::Token;
use super::trace::{Trace, TracedMessage};
use crate::codec::{Binary, Limits};
use crate::security::SecurityPolicy;
use crate::service::{
    CloseSecureChannelRequest, MessageError, MessageSecurityMode, OpenSecureChannelRequest, OpenSecureChannelResponse,
    Request, Response, SecurityTokenRequestType,
};
use crate::transport::{Acknowledge, ChunkType, ErrorMessage, Frame, FrameDecoder, MessageType, encode_frame};
use crate::types::ByteString;
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// A client's side of a secure channel, without I/O.
///
/// ```text
///   new ──▶ Greeting ──ACK──▶ Opening ──OPN──▶ Open ──┐
///              │                 │              │ ◀───┘ renewed in time
///              └─────────────────┴──────────────┴──▶ Closed
/// ```
///
/// After any call, poll [`ClientChannel::poll_transmit`], [`ClientChannel::poll_event`] and [`ClientChannel::poll_timeout`].
#[derive(Debug)]
pub struct ClientChannel {
    config: ClientChannelConfig,
    state: State,
    decoder: FrameDecoder,
    conversation: Conversation,
    last_request: u32,
    /// The renewal, or the opening, that waits for its answer.
    pending: Option<Pending>,
    out: Vec<u8>,
    events: VecDeque<ClientChannelEvent>,
    trace: Option<Trace>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Greeting { deadline: Instant },
    Opening,
    Open,
    Closed,
}

#[derive(Debug)]
struct Pending {
    request: u32,
    nonce: ByteString,
    deadline: Instant,
}

/// How a client opens a channel.
#[derive(Debug, Clone)]
pub struct ClientChannelConfig {
    /// The address, as the server is told it.
    pub url: String,
    /// The algorithms.
    pub policy: SecurityPolicy,
    /// What is done to messages.
    pub mode: MessageSecurityMode,
    /// Who the client is; needed with every policy but `None`.
    pub own: Option<Credentials>,
    /// The server's certificate, which somebody trusts; needed with every policy but `None`.
    pub server_certificate: Vec<u8>,
    /// What is taken.
    pub limits: TransportLimits,
    /// How long a token is wanted to live. A short one costs two signatures each time; a long one leaves keys in use.
    pub token_lifetime: Duration,
    /// How long each answer may take until the channel is open.
    pub timeout: Duration,
    /// Whether [`ClientChannel::poll_message`] tells what goes over it.
    pub trace: bool,
}

/// The number of a request on its channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RequestId(pub u32);

/// What happens on a client's channel.
#[derive(Debug, Clone, PartialEq)]
pub enum ClientChannelEvent {
    /// It is open: requests may be sent.
    Opened,
    /// Its keys are new.
    Renewed,
    /// An answer came.
    Response(RequestId, Box<Response>),
    /// An answer came that cannot be read.
    Unreadable(RequestId, MessageError),
    /// The server gives its answer up, and says why.
    Aborted(RequestId, ErrorMessage),
    /// It is of no use any more.
    Closed(ChannelError),
}

/// A request that is not sent.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// The channel is not open.
    #[error("the channel is not open")]
    Closed,
    /// The server does not take so large a message.
    #[error("{0}")]
    TooLarge(String),
}

impl ClientChannel {
    /// Begins to open a channel over a connection that is up.
    #[must_use]
    pub fn new(config: ClientChannelConfig, now: Instant) -> Self {
        let decoder = FrameDecoder::new(usize::try_from(config.limits.receive_buffer).unwrap_or(usize::MAX));
        let conversation = Conversation::new(config.policy, config.mode, config.limits);
        let mut out = Vec::new();
        let hello = config.limits.hello(&config.url).to_bytes();
        encode_frame(MessageType::Hello, ChunkType::Final, &hello, &mut out);
        let mut trace = config.trace.then(Trace::default);
        trace.iter_mut().for_each(|trace| trace.frame(true, out.clone()));
        let (state, events) = (State::Greeting { deadline: now + config.timeout }, VecDeque::new());
        Self { config, state, decoder, conversation, last_request: 0, pending: None, out, events, trace }
    }

    /// Sends a request; its handle becomes its number.
    ///
    /// # Errors
    /// When the channel is not open, or the server does not take it.
    pub fn request(&mut self, mut request: Request) -> Result<RequestId, NotSent> {
        if self.state != State::Open {
            return Err(NotSent::Closed);
        }
        let id = self.next_request();
        request.header_mut().request_handle = id;
        let body = request.to_bytes();
        match self.conversation.send(MessageType::Message, id, &body, &mut self.out) {
            Ok(()) => {
                let numbers = [self.conversation.channel, 0, id];
                self.trace.iter_mut().for_each(|trace| trace.message(true, numbers, &body));
                Ok(RequestId(id))
            }
            Err(SplitError::Security(_)) => Err(NotSent::Closed),
            Err(error) => Err(NotSent::TooLarge(error.to_string())),
        }
    }

    const fn next_request(&mut self) -> u32 {
        self.last_request = if self.last_request == u32::MAX { 1 } else { self.last_request + 1 };
        self.last_request
    }

    /// Ends the channel in order. Nothing answers; close the connection when everything is sent.
    pub fn close(&mut self) {
        if self.state == State::Open {
            let id = self.next_request();
            let request = Request::from(CloseSecureChannelRequest::default());
            // One that cannot be sent ends with the connection.
            _ = self.conversation.send(MessageType::CloseChannel, id, &request.to_bytes(), &mut self.out);
        }
        self.state = State::Closed;
    }

    /// Bytes that came, however they were cut up.
    pub fn handle_input(&mut self, now: Instant, bytes: &[u8]) {
        self.decoder.push(bytes);
        while self.state != State::Closed {
            let taken = match self.decoder.poll_frame() {
                Ok(None) => return,
                Ok(Some(frame)) => self.take(now, frame),
                Err(error) => Err(error.into()),
            };
            if let Err(error) = taken {
                self.fail(error);
            }
        }
    }

    /// The moment of [`ClientChannel::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        match self.state {
            State::Greeting { deadline } if now >= deadline => self.fail(ChannelError::Timeout("the acknowledgement")),
            State::Opening | State::Open => {
                if self.pending.as_ref().is_some_and(|pending| now >= pending.deadline) {
                    self.fail(ChannelError::Timeout("the answer to OpenSecureChannel"));
                } else if self.state == State::Open && self.pending.is_none() && self.renews_at() <= Some(now) {
                    self.ask_token(now, SecurityTokenRequestType::Renew);
                }
            }
            State::Greeting { .. } | State::Closed => {}
        }
    }

    fn renews_at(&self) -> Option<Instant> {
        self.conversation.tokens.current.as_ref().map(Token::renews_at)
    }

    /// When to call [`ClientChannel::handle_timeout`], if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        match (self.state, &self.pending) {
            (State::Closed, _) => None,
            (State::Greeting { deadline }, _) => Some(deadline),
            (_, Some(pending)) => Some(pending.deadline),
            (_, None) => self.renews_at(),
        }
    }

    /// Appends what is to be sent; `false` when there is nothing.
    #[must_use]
    pub fn poll_transmit(&mut self, out: &mut Vec<u8>) -> bool {
        let has_some = !self.out.is_empty();
        out.append(&mut self.out);
        has_some
    }

    /// What went over the channel, the oldest first, until `None`.
    #[must_use]
    pub fn poll_message(&mut self) -> Option<TracedMessage> {
        self.trace.as_mut().and_then(Trace::poll)
    }

    /// What happened, the oldest first, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<ClientChannelEvent> {
        self.events.pop_front()
    }

    fn fail(&mut self, error: ChannelError) {
        if self.state != State::Closed {
            self.state = State::Closed;
            self.events.push_back(ClientChannelEvent::Closed(error));
        }
    }

    fn take(&mut self, now: Instant, frame: Frame) -> Result<(), ChannelError> {
        if matches!(frame.message, MessageType::Error | MessageType::Acknowledge) {
            self.trace.iter_mut().for_each(|trace| trace.frame(false, frame.bytes.clone()));
        }
        match (frame.message, self.state) {
            (MessageType::Error, _) => Err(ChannelError::Told(ErrorMessage::from_bytes(frame.body())?)),
            (MessageType::Acknowledge, State::Greeting { .. }) => {
                let answer = Acknowledge::from_bytes(frame.body())?;
                self.conversation.limits = self.config.limits.acknowledged(&answer).ok_or(ChannelError::Limits)?;
                self.state = State::Opening;
                self.ask_token(now, SecurityTokenRequestType::Issue);
                Ok(())
            }
            (MessageType::OpenChannel, State::Opening | State::Open) => self.opened(now, frame),
            (MessageType::Message, State::Open) => self.message(now, frame),
            (MessageType::Acknowledge, _) => Err(ChannelError::Unexpected("a second acknowledgement", "a message")),
            (MessageType::CloseChannel, _) => Err(ChannelError::Unexpected("the end of the channel", "a response")),
            (MessageType::Hello | MessageType::ReverseHello, _) => {
                Err(ChannelError::Unexpected("a greeting", "an answer"))
            }
            (MessageType::Message | MessageType::OpenChannel, _) => {
                Err(ChannelError::Unexpected("a message", "an acknowledgement"))
            }
        }
    }

    fn ask_token(&mut self, now: Instant, request_type: SecurityTokenRequestType) {
        if let Err(error) = self.try_ask_token(now, request_type) {
            self.fail(error);
        }
    }

    fn try_ask_token(&mut self, now: Instant, request_type: SecurityTokenRequestType) -> Result<(), ChannelError> {
        let (policy, id) = (self.config.policy, self.next_request());
        let nonce = nonce(policy)?;
        let mut request = OpenSecureChannelRequest {
            client_protocol_version: 0,
            request_type,
            security_mode: self.config.mode,
            client_nonce: nonce.clone(),
            requested_lifetime: u32::try_from(self.config.token_lifetime.as_millis()).unwrap_or(u32::MAX),
            ..OpenSecureChannelRequest::default()
        };
        request.request_header.request_handle = id;
        let body = Request::from(request).to_bytes();
        let parties = Parties { policy, own: self.config.own.as_ref(), other: &self.config.server_certificate };
        let numbers = (self.conversation.outgoing.next(), id);
        seal(self.conversation.channel, &parties, numbers, &body, &mut self.out)?;
        let channel = self.conversation.channel;
        self.trace.iter_mut().for_each(|trace| trace.opening(true, channel, id, &body));
        self.pending = Some(Pending { request: id, nonce, deadline: now + self.config.timeout });
        Ok(())
    }

    /// The server has given a token.
    fn opened(&mut self, now: Instant, frame: Frame) -> Result<(), ChannelError> {
        let opening = Opening::read(frame)?;
        if opening.policy != self.config.policy {
            return Err(ChannelError::Agreement("the server answers with another security policy"));
        }
        if opening.policy != SecurityPolicy::None && !opening.is_from(&self.config.server_certificate) {
            return Err(ChannelError::OtherCertificate("the server answers with another certificate"));
        }
        let (channel, is_first) = (opening.channel, self.state == State::Opening);
        let chunk = opening.open(self.config.own.as_ref())?;
        self.conversation.incoming.take(chunk.sequence_number)?;
        let Some(pending) = self.pending.take().filter(|pending| pending.request == chunk.request_id) else {
            return Err(ChannelError::Unexpected("an answer to no OpenSecureChannel", "one to ours"));
        };
        let numbers = (channel, chunk.request_id);
        self.trace.iter_mut().for_each(|trace| trace.opening(false, numbers.0, numbers.1, &chunk.body));
        let answer = match Response::from_bytes(&chunk.body, Limits::default())? {
            Response::OpenSecureChannel(answer) => answer,
            other => {
                let error = other.header().service_result;
                return Err(ChannelError::Told(ErrorMessage { error, reason: None }));
            }
        };
        let OpenSecureChannelResponse { response_header, security_token: token, server_nonce, .. } = answer;
        if response_header.service_result.is_bad() {
            return Err(ChannelError::Told(ErrorMessage { error: response_header.service_result, reason: None }));
        }
        if server_nonce.as_bytes().len() != self.config.policy.nonce_length() {
            return Err(ChannelError::Agreement("the server's part of the keys has another length"));
        }
        if token.channel_id != channel || (!is_first && channel != self.conversation.channel) {
            return Err(ChannelError::Channel { got: token.channel_id, own: self.conversation.channel });
        }
        self.conversation.channel = channel;
        // A token that lives for no time would be renewed without end.
        let lifetime = Duration::from_millis(token.revised_lifetime.into()).max(SHORTEST_LIFETIME);
        let nonces = (pending.nonce.as_bytes(), server_nonce.as_bytes());
        self.conversation.tokens.begin(Token::new(self.config.policy, (token.token_id, lifetime), nonces, now));
        self.state = State::Open;
        let event = if is_first { ClientChannelEvent::Opened } else { ClientChannelEvent::Renewed };
        self.events.push_back(event);
        Ok(())
    }

    fn message(&mut self, now: Instant, frame: Frame) -> Result<(), ChannelError> {
        let event = match self.conversation.take(frame, now)? {
            None => return Ok(()),
            Some(Assembled::Aborted { request_id, why }) => ClientChannelEvent::Aborted(RequestId(request_id), why),
            Some(Assembled::Whole { request_id, body }) => {
                let numbers = [self.conversation.channel, 0, request_id];
                self.trace.iter_mut().for_each(|trace| trace.message(false, numbers, &body));
                match Response::from_bytes(&body, Limits::default()) {
                    Ok(response) => ClientChannelEvent::Response(RequestId(request_id), Box::new(response)),
                    Err(error) => ClientChannelEvent::Unreadable(RequestId(request_id), error),
                }
            }
        };
        self.events.push_back(event);
        Ok(())
    }
}

/// So long a token is taken to live at the least.
const SHORTEST_LIFETIME: Duration = Duration::from_secs(1);
