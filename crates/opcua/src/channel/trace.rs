//! What went over a channel, as it was before it was secured.

use crate::codec::{Binary, Limits, Reader};
use crate::security::SecurityPolicy;
use crate::service::{ActivateSessionRequest, CreateSessionResponse, Request, Response, UserNameIdentityToken};
use crate::structure::Structure;
use crate::transport::{AsymmetricHeader, ChunkType, MessageType, begin_frame};
use crate::types::{ByteString, ExtensionObject, NodeId};
use std::collections::VecDeque;

/// A message, as one frame without security: so others can read it. What lets one in is left out of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TracedMessage {
    /// Whether it was sent, and did not come.
    pub is_sent: bool,
    /// The frame.
    pub bytes: Vec<u8>,
}

/// Keeps them until somebody takes them.
#[derive(Debug, Default)]
pub(super) struct Trace {
    messages: VecDeque<TracedMessage>,
}

/// What nobody takes is not kept without end.
const MOST: usize = 1000;

impl Trace {
    pub(super) fn frame(&mut self, is_sent: bool, bytes: Vec<u8>) {
        if self.messages.len() >= MOST {
            self.messages.pop_front();
        }
        self.messages.push_back(TracedMessage { is_sent, bytes });
    }

    /// A message of an open channel.
    pub(super) fn message(&mut self, is_sent: bool, numbers: [u32; 3], body: &[u8]) {
        let [channel, token, request] = numbers;
        let masked = if is_sent { masked_request(body) } else { masked_response(body) };
        let body = masked.as_deref().unwrap_or(body);
        let mut bytes = Vec::with_capacity(body.len() + 24);
        begin_frame(MessageType::Message, ChunkType::Final, 16 + body.len(), &mut bytes);
        [channel, token, request, request].iter().for_each(|number| number.encode(&mut bytes));
        bytes.extend_from_slice(body);
        self.frame(is_sent, bytes);
    }

    /// A message that opens a channel, without its part of the keys.
    pub(super) fn opening(&mut self, is_sent: bool, channel: u32, request: u32, body: &[u8]) {
        let limits = Limits::default();
        let masked = match is_sent {
            true => Request::from_bytes(body, limits).ok().map(|mut request| {
                if let Request::OpenSecureChannel(open) = &mut request {
                    open.client_nonce = ByteString::default();
                }
                request.to_bytes()
            }),
            false => Response::from_bytes(body, limits).ok().map(|mut response| {
                if let Response::OpenSecureChannel(open) = &mut response {
                    open.server_nonce = ByteString::default();
                }
                response.to_bytes()
            }),
        };
        let header = AsymmetricHeader {
            security_policy_uri: Some(SecurityPolicy::None.uri()),
            sender_certificate: ByteString(None),
            receiver_certificate_thumbprint: ByteString(None),
        };
        let mut content = channel.to_bytes();
        header.encode(&mut content);
        [request, request].iter().for_each(|number| number.encode(&mut content));
        content.extend_from_slice(&masked.unwrap_or_default());
        let mut bytes = Vec::new();
        begin_frame(MessageType::OpenChannel, ChunkType::Final, content.len(), &mut bytes);
        bytes.extend_from_slice(&content);
        self.frame(is_sent, bytes);
    }

    pub(super) fn poll(&mut self) -> Option<TracedMessage> {
        self.messages.pop_front()
    }
}

/// The same request without the token of its session, and without what proves who somebody is.
fn masked_request(body: &[u8]) -> Option<Vec<u8>> {
    let mut from = Reader::new(body, Limits::default());
    let kind = NodeId::decode(&mut from).ok()?;
    if kind == NodeId::numeric(0, ActivateSessionRequest::ENCODING) {
        let Ok(Request::ActivateSession(mut activate)) = Request::from_bytes(body, Limits::default()) else {
            return Some(kind.to_bytes());
        };
        activate.request_header.authentication_token = NodeId::NULL;
        activate.user_identity_token = masked_identity(&activate.user_identity_token);
        activate.user_token_signature.signature = ByteString::default();
        return Some(Request::from(activate).to_bytes());
    }
    // The token of the session stands first in every header.
    NodeId::decode(&mut from).ok()?;
    let mut masked = kind.to_bytes();
    NodeId::NULL.encode(&mut masked);
    masked.extend_from_slice(from.rest());
    Some(masked)
}

fn masked_identity(token: &ExtensionObject) -> ExtensionObject {
    match UserNameIdentityToken::from_object(token) {
        Some(Ok(user)) => UserNameIdentityToken { password: ByteString::default(), ..user }.to_object(),
        _ => ExtensionObject { type_id: token.type_id.clone(), ..ExtensionObject::default() },
    }
}

/// The same answer without the token that lets one into its session.
fn masked_response(body: &[u8]) -> Option<Vec<u8>> {
    let mut from = Reader::new(body, Limits::default());
    let kind = NodeId::decode(&mut from).ok()?;
    if kind != NodeId::numeric(0, CreateSessionResponse::ENCODING) {
        return None;
    }
    let Ok(Response::CreateSession(mut created)) = Response::from_bytes(body, Limits::default()) else {
        return Some(kind.to_bytes());
    };
    created.authentication_token = NodeId::NULL;
    Some(Response::from(created).to_bytes())
}

impl TracedMessage {
    /// What it says, in a line: the service, its number, and what it is about.
    #[must_use]
    pub fn describe(&self) -> String {
        super::describe::frame(&self.bytes, self.is_sent)
    }

    /// The number of the request that it is, or that it answers.
    #[must_use]
    pub fn request(&self) -> Option<u32> {
        let place = if self.bytes.starts_with(b"MSG") { 20 } else { return None };
        Some(u32::from_le_bytes(self.bytes.get(place..place + 4)?.try_into().ok()?))
    }
}
