use super::description::ServerDescription;
use super::users::{User, Users, read};
use crate::security::{SecurityPolicy, leaf_certificate, public_key};
use crate::service::{
    ActivateSessionRequest, ActivateSessionResponse, CloseSessionResponse, CreateSessionRequest, CreateSessionResponse,
    MessageSecurityMode, Request, Response, ResponseHeader, SESSION_NONCE, ServiceFault, SignatureData,
};
use crate::types::{ByteString, DateTime, NodeId, StatusCode};
use std::collections::HashMap;
use std::time::{Duration, Instant};

/// The sessions of a server, without I/O.
#[derive(Debug)]
pub struct Sessions {
    description: ServerDescription,
    /// By what proves them.
    open: HashMap<NodeId, OpenSession>,
    last_id: u32,
}

#[derive(Debug)]
struct OpenSession {
    id: u32,
    /// The channel over which it was created, or activated last.
    channel: u32,
    /// The client's certificate.
    certificate: Vec<u8>,
    user: Option<User>,
    /// What is to be signed at the next activation.
    nonce: ByteString,
    timeout: Duration,
    heard: Instant,
    /// So many bytes a response may have; 0 for any.
    largest_response: u32,
}

/// The channel that a request came over.
#[derive(Debug, Clone, Copy)]
pub struct ChannelInfo<'a> {
    /// Its number.
    pub id: u32,
    /// The algorithms.
    pub policy: SecurityPolicy,
    /// What is done to messages.
    pub mode: MessageSecurityMode,
    /// The client's certificate; empty without security.
    pub certificate: &'a [u8],
}

/// What becomes of a request.
#[derive(Debug, Clone, PartialEq)]
pub enum Handled {
    /// It is answered.
    Answer(Box<Response>),
    /// It is one of a session that is active, and still to be carried out.
    Of {
        /// The number of the session.
        session: u32,
        /// Whose it is.
        user: User,
        /// So many bytes the response may have; 0 for any.
        largest_response: u32,
    },
    /// A session has ended, and is answered; with its subscriptions, or leaving them.
    Ended {
        /// The number of the session.
        session: u32,
        /// Whether its subscriptions end with it.
        delete_subscriptions: bool,
        /// The answer.
        answer: Box<Response>,
    },
}

impl Sessions {
    /// None yet.
    #[must_use]
    pub fn new(description: ServerDescription) -> Self {
        Self { description, open: HashMap::new(), last_id: 0 }
    }

    /// What the server is.
    #[must_use]
    pub const fn description(&self) -> &ServerDescription {
        &self.description
    }

    pub(super) const fn description_mut(&mut self) -> &mut ServerDescription {
        &mut self.description
    }

    /// The numbers of those that are open.
    pub(super) fn numbers(&self) -> Vec<u32> {
        self.open.values().map(|session| session.id).collect()
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.open.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.open.is_empty()
    }

    /// Answers what is about sessions, and tells whose the other requests are.
    pub fn handle(
        &mut self,
        (now, wall): (Instant, DateTime),
        channel: ChannelInfo<'_>,
        request: &Request,
        users: &dyn Users,
    ) -> Handled {
        let header = request.header();
        let answered: Result<Response, StatusCode> = match request {
            Request::FindServers(_) => Ok(self.description.find_servers().into()),
            Request::GetEndpoints(_) => Ok(self.description.get_endpoints().into()),
            Request::CreateSession(create) => self.create(now, channel, create).map(Into::into),
            Request::ActivateSession(activate) => self.activate(now, channel, activate, users).map(Into::into),
            Request::CloseSession(close) => match self.of(now, channel, &header.authentication_token) {
                Ok(session) => {
                    let id = session.id;
                    self.open.remove(&header.authentication_token);
                    let answer = stamped(CloseSessionResponse::default().into(), header.request_handle, wall);
                    let delete_subscriptions = close.delete_subscriptions;
                    return Handled::Ended { session: id, delete_subscriptions, answer: Box::new(answer) };
                }
                Err(status) => Err(status),
            },
            _ => match self.of(now, channel, &header.authentication_token) {
                Ok(OpenSession { id, user: Some(user), largest_response, .. }) => {
                    return Handled::Of { session: *id, user: user.clone(), largest_response: *largest_response };
                }
                Ok(OpenSession { user: None, .. }) => {
                    // Source: OPC 10000-4, section 5.7.3.1: it ends whoever uses it before it is activated.
                    self.open.remove(&header.authentication_token);
                    Err(StatusCode::BAD_SESSION_NOT_ACTIVATED)
                }
                Err(status) => Err(status),
            },
        };
        let answer = answered.unwrap_or_else(|service_result| {
            let response_header = ResponseHeader { service_result, ..ResponseHeader::default() };
            ServiceFault { response_header }.into()
        });
        Handled::Answer(Box::new(stamped(answer, header.request_handle, wall)))
    }

    /// A session over its channel.
    fn of(&mut self, now: Instant, channel: ChannelInfo<'_>, token: &NodeId) -> Result<&mut OpenSession, StatusCode> {
        let session = self.open.get_mut(token).ok_or(StatusCode::BAD_SESSION_ID_INVALID)?;
        if session.channel != channel.id {
            return Err(StatusCode::BAD_SECURE_CHANNEL_ID_INVALID);
        }
        session.heard = now;
        Ok(session)
    }

    fn create(
        &mut self,
        now: Instant,
        channel: ChannelInfo<'_>,
        request: &CreateSessionRequest,
    ) -> Result<CreateSessionResponse, StatusCode> {
        if self.open.len() >= self.description.most_sessions {
            return Err(StatusCode::BAD_TOO_MANY_SESSIONS);
        }
        let (client_nonce, policy) = (request.client_nonce.as_bytes(), channel.policy);
        let own = self.description.own.as_ref().filter(|_| policy != SecurityPolicy::None);
        let mut server_signature = SignatureData::default();
        if let Some(own) = own {
            if client_nonce.len() < SESSION_NONCE {
                return Err(StatusCode::BAD_NONCE_INVALID);
            }
            let certificate = request.client_certificate.as_bytes();
            if leaf_certificate(certificate) != leaf_certificate(channel.certificate) {
                return Err(StatusCode::BAD_CERTIFICATE_INVALID);
            }
            let signed = [leaf_certificate(certificate), client_nonce].concat();
            let signature = own.key.sign(policy, &signed).map_err(|_| StatusCode::BAD_INTERNAL_ERROR)?;
            server_signature.algorithm = policy.signature_uri().map(str::to_owned);
            server_signature.signature = signature.into();
        }
        let (token, nonce) = (random()?, random()?);
        self.last_id += 1;
        let (shortest, longest) = self.description.session_timeout;
        // What is no span at all is taken for the longest.
        let wanted = Duration::try_from_secs_f64(request.requested_session_timeout / 1000.0).unwrap_or(longest);
        let timeout = wanted.clamp(shortest, longest);
        let token = NodeId { namespace: 0, identifier: crate::types::Identifier::Opaque(token) };
        let session = OpenSession {
            id: self.last_id,
            channel: channel.id,
            certificate: channel.certificate.to_vec(),
            user: None,
            nonce: nonce.clone().into(),
            timeout,
            heard: now,
            largest_response: request.max_response_message_size,
        };
        self.open.insert(token.clone(), session);
        Ok(CreateSessionResponse {
            session_id: NodeId::numeric(1, self.last_id),
            authentication_token: token,
            revised_session_timeout: timeout.as_secs_f64() * 1000.0,
            server_nonce: nonce.into(),
            // Without security too: secrets of users are encrypted for it (OPC 10000-4, section 5.7.2.2).
            server_certificate: ByteString(self.description.own.as_ref().map(|own| own.certificate.clone())),
            server_endpoints: self.description.endpoints(),
            server_signature,
            ..CreateSessionResponse::default()
        })
    }

    fn activate(
        &mut self,
        now: Instant,
        channel: ChannelInfo<'_>,
        request: &ActivateSessionRequest,
        users: &dyn Users,
    ) -> Result<ActivateSessionResponse, StatusCode> {
        let token = &request.request_header.authentication_token;
        let session = self.open.get_mut(token).ok_or(StatusCode::BAD_SESSION_ID_INVALID)?;
        // A session that was never active stays with the channel that it was created over.
        if session.channel != channel.id && session.user.is_none() {
            return Err(StatusCode::BAD_SECURE_CHANNEL_ID_INVALID);
        }
        if leaf_certificate(&session.certificate) != leaf_certificate(channel.certificate) {
            return Err(StatusCode::BAD_CERTIFICATE_INVALID);
        }
        let nonce = session.nonce.as_bytes();
        if channel.policy != SecurityPolicy::None {
            let own = self.description.own.as_ref().map(|own| leaf_certificate(&own.certificate)).unwrap_or_default();
            let key = public_key(channel.certificate).map_err(|_| StatusCode::BAD_CERTIFICATE_INVALID)?;
            let signature = request.client_signature.signature.as_bytes();
            let verified = key.verify(channel.policy, &[own, nonce].concat(), signature);
            verified.map_err(|_| StatusCode::BAD_APPLICATION_SIGNATURE_INVALID)?;
        }
        let (token, signature) = (&request.user_identity_token, &request.user_token_signature);
        let user = read(&self.description, channel.policy, token, signature, nonce)?;
        if !users.takes(&user) {
            return Err(StatusCode::BAD_IDENTITY_TOKEN_REJECTED);
        }
        // Over another channel, it stays the same user's.
        if session.channel != channel.id && session.user.as_ref() != Some(&user) {
            return Err(StatusCode::BAD_IDENTITY_CHANGE_NOT_SUPPORTED);
        }
        let nonce: ByteString = random()?.into();
        (session.channel, session.user, session.heard) = (channel.id, Some(user), now);
        session.nonce.clone_from(&nonce);
        Ok(ActivateSessionResponse { server_nonce: nonce, ..ActivateSessionResponse::default() })
    }

    /// The number of a session, by what proves it.
    pub(super) fn number(&self, token: &NodeId) -> Option<u32> {
        self.open.get(token).map(|session| session.id)
    }

    /// Ends a session by the server's own will.
    pub fn end(&mut self, session: u32) {
        self.open.retain(|_, open| open.id != session);
    }

    /// Ends what nobody has used for too long; gives the numbers of those.
    pub fn handle_timeout(&mut self, now: Instant) -> Vec<u32> {
        let silent = |open: &OpenSession| now >= open.heard + open.timeout;
        let ended = self.open.extract_if(|_, open| silent(open)).map(|(_, open)| open.id);
        ended.collect()
    }

    /// When to call [`Sessions::handle_timeout`], if nothing comes before.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.open.values().map(|open| open.heard + open.timeout).min()
    }
}

fn random() -> Result<Vec<u8>, StatusCode> {
    let mut bytes = vec![0; SESSION_NONCE];
    getrandom::fill(&mut bytes).map_err(|_| StatusCode::BAD_INTERNAL_ERROR)?;
    Ok(bytes)
}

fn stamped(mut answer: Response, handle: u32, wall: DateTime) -> Response {
    let header = answer.header_mut();
    (header.request_handle, header.timestamp) = (handle, wall);
    answer
}
