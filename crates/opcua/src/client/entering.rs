//! How a session is begun, and activated over a channel.

use super::endpoints::same_endpoints;
use super::error::{RequestError, SessionError};
use super::session::{ClientSession, ClientSessionEvent, Purpose, Session, State};
use crate::security::{SecurityPolicy, leaf_certificate, public_key};
use crate::service::{
    ActivateSessionRequest, ActivateSessionResponse, ApplicationDescription, ApplicationType, CreateSessionRequest,
    CreateSessionResponse, Response, SESSION_NONCE, SignatureData,
};
use crate::types::{ByteString, DateTime, LocalizedText};
use std::time::{Duration, Instant};

impl ClientSession {
    pub(super) fn create(&mut self, at: (Instant, DateTime)) -> Result<(), SessionError> {
        let mut bytes = vec![0; SESSION_NONCE];
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

    pub(super) fn created(
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
        if answer.server_nonce.as_bytes().len() < SESSION_NONCE {
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

    pub(super) fn activate(&mut self, at: (Instant, DateTime), is_new: bool) -> Result<(), SessionError> {
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

    pub(super) fn activated(
        &mut self,
        now: Instant,
        is_new: bool,
        answer: Result<Box<Response>, RequestError>,
    ) -> Result<(), SessionError> {
        let Response::ActivateSession(ActivateSessionResponse { server_nonce, .. }) = *told("ActivateSession", answer)?
        else {
            return Err(SessionError::Answer("ActivateSession"));
        };
        if let Some(session) = &mut self.session {
            let is_secure = self.config.channel.policy != SecurityPolicy::None;
            if is_secure && (server_nonce.as_bytes().len() < SESSION_NONCE || server_nonce == session.nonce) {
                return Err(SessionError::Nonce);
            }
            (session.nonce, session.was_active) = (server_nonce, true);
        }
        (self.state, self.active_since) = (State::Active, Some(now));
        self.events.push_back(ClientSessionEvent::Active { is_new });
        Ok(())
    }
}

fn told(service: &'static str, answer: Result<Box<Response>, RequestError>) -> Result<Box<Response>, SessionError> {
    answer.map_err(|error| match error {
        RequestError::Fault(status) => SessionError::Refused(service, status),
        other => SessionError::Request(service, other),
    })
}
