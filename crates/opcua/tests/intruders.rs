//! Somebody who has seen what others sent, and wants to be taken for them.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod identities;

use identities::identities;
use interlex_opcua::{
    ActivateSessionRequest, ActivateSessionResponse, ChannelInfo, CloseSessionRequest, CreateSessionRequest,
    CreateSessionResponse, DateTime, Handled, MessageSecurityMode, NodeId, ReadRequest, Request, Response,
    SecurityPolicy, ServerDescription, Sessions, SignatureData, StatusCode, Structure, User, UserNameIdentityToken,
    UserTokenType, Users, X509IdentityToken, public_key,
};
use std::time::{Duration, Instant};

const POLICY: SecurityPolicy = SecurityPolicy::Basic256Sha256;

struct Everybody;

impl Users for Everybody {
    fn takes(&self, _: &User) -> bool {
        true
    }
}

struct Server {
    sessions: Sessions,
    now: Instant,
}

impl Server {
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn new() -> Self {
        let description = ServerDescription {
            url: "opc.tcp://engine.alderfen:4840".to_owned(),
            application_uri: "urn:alderfen:chp".to_owned(),
            application_name: "Engine".to_owned(),
            own: Some(identities()[1].clone()),
            security: vec![(POLICY, MessageSecurityMode::SignAndEncrypt)],
            users: vec![(UserTokenType::UserName, None), (UserTokenType::Certificate, None)],
            session_timeout: (Duration::from_secs(10), Duration::from_secs(60)),
            most_sessions: 10,
        };
        Self { sessions: Sessions::new(description), now: Instant::now() }
    }

    /// Asks over a channel of the program with that certificate.
    fn ask(&mut self, channel: u32, of: usize, request: impl Into<Request>) -> Response {
        let certificate = identities()[of].certificate.clone();
        let mode = MessageSecurityMode::SignAndEncrypt;
        let info = ChannelInfo { id: channel, policy: POLICY, mode, certificate: &certificate };
        match self.sessions.handle((self.now, DateTime::NONE), info, &request.into(), &Everybody) {
            Handled::Answer(answer) | Handled::Ended { answer, .. } => *answer,
            Handled::Of { .. } => Response::from(interlex_opcua::ReadResponse::default()),
        }
    }

    fn status(&mut self, channel: u32, of: usize, request: impl Into<Request>) -> StatusCode {
        self.ask(channel, of, request).header().service_result
    }

    fn create(&mut self, channel: u32) -> CreateSessionResponse {
        let request = CreateSessionRequest {
            client_nonce: vec![3; 32].into(),
            client_certificate: identities()[0].certificate.clone().into(),
            ..CreateSessionRequest::default()
        };
        match self.ask(channel, 0, request) {
            Response::CreateSession(created) => created,
            other => panic!("{other:?}"),
        }
    }
}

/// What the server wants signed or encrypted with a nonce of its own.
fn over(nonce: &[u8]) -> Vec<u8> {
    [identities()[1].certificate.as_slice(), nonce].concat()
}

fn signed(by: usize, nonce: &[u8]) -> SignatureData {
    SignatureData {
        signature: identities()[by].key.sign(POLICY, &over(nonce)).unwrap().into(),
        ..SignatureData::default()
    }
}

fn password(nonce: &[u8]) -> UserNameIdentityToken {
    let plain = [&u32::try_from(6 + nonce.len()).unwrap().to_le_bytes(), b"secret".as_slice(), nonce].concat();
    UserNameIdentityToken {
        policy_id: Some("UserName".to_owned()),
        user_name: Some("anna".to_owned()),
        password: public_key(&identities()[1].certificate).unwrap().encrypt(POLICY, &plain).unwrap().into(),
        encryption_algorithm: POLICY.encryption_uri().map(str::to_owned),
    }
}

fn activate(token: &NodeId, nonce: &[u8], user: &UserNameIdentityToken) -> ActivateSessionRequest {
    let mut request = ActivateSessionRequest {
        client_signature: signed(0, nonce),
        user_identity_token: user.to_object(),
        ..ActivateSessionRequest::default()
    };
    request.request_header.authentication_token = token.clone();
    request
}

fn read(token: &NodeId) -> ReadRequest {
    let mut request = ReadRequest::default();
    request.request_header.authentication_token = token.clone();
    request
}

/// An active session over channel 1: what proves it, and the nonce of its next activation.
fn active(server: &mut Server) -> (NodeId, Vec<u8>, UserNameIdentityToken) {
    let created = server.create(1);
    let (token, nonce) = (created.authentication_token, created.server_nonce.as_bytes().to_vec());
    let user = password(&nonce);
    match server.ask(1, 0, activate(&token, &nonce, &user)) {
        Response::ActivateSession(ActivateSessionResponse { server_nonce, .. }) => {
            (token, server_nonce.as_bytes().to_vec(), user)
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_password_that_somebody_saw_is_of_no_use_a_second_time() {
    let mut server = Server::new();
    let (token, next, seen) = active(&mut server);
    assert_eq!(server.status(1, 0, activate(&token, &next, &seen)), StatusCode::BAD_IDENTITY_TOKEN_INVALID);
    assert_eq!(server.status(1, 0, activate(&token, &next, &password(&next))), StatusCode::GOOD);
    let mut clear = password(&next);
    (clear.password, clear.encryption_algorithm) = (b"secret".to_vec().into(), None);
    let fresh = server.create(1);
    let (token, nonce) = (fresh.authentication_token, fresh.server_nonce.as_bytes().to_vec());
    assert_eq!(server.status(1, 0, activate(&token, &nonce, &clear)), StatusCode::BAD_IDENTITY_TOKEN_INVALID);
}

#[test]
fn a_session_belongs_to_the_program_that_began_it_and_to_its_channel() {
    let mut server = Server::new();
    let (token, next, _) = active(&mut server);
    assert_eq!(server.status(1, 0, read(&token)), StatusCode::GOOD);
    assert_eq!(server.status(2, 0, read(&token)), StatusCode::BAD_SECURE_CHANNEL_ID_INVALID);
    let mut close = CloseSessionRequest::default();
    close.request_header.authentication_token = token.clone();
    assert_eq!(server.status(2, 0, close), StatusCode::BAD_SECURE_CHANNEL_ID_INVALID);
    // Another program cannot take it over, nor can anybody with a signature of before, or of others.
    let user = password(&next);
    assert_eq!(server.status(2, 1, activate(&token, &next, &user)), StatusCode::BAD_CERTIFICATE_INVALID);
    for wrong in [signed(1, &next), signed(0, &[9; 32]), SignatureData::default()] {
        let request = ActivateSessionRequest { client_signature: wrong, ..activate(&token, &next, &user) };
        assert_eq!(server.status(2, 0, request), StatusCode::BAD_APPLICATION_SIGNATURE_INVALID);
    }
    // Over another channel, it stays the same user's.
    let mut other = password(&next);
    other.user_name = Some("ben".to_owned());
    assert_eq!(server.status(2, 0, activate(&token, &next, &other)), StatusCode::BAD_IDENTITY_CHANGE_NOT_SUPPORTED);
    assert_eq!(server.status(2, 0, activate(&token, &next, &user)), StatusCode::GOOD);
    assert_eq!(server.status(1, 0, read(&token)), StatusCode::BAD_SECURE_CHANNEL_ID_INVALID, "it has moved");
    assert_eq!(server.status(2, 0, read(&token)), StatusCode::GOOD);
    assert_eq!(server.status(2, 0, read(&NodeId::numeric(1, 1))), StatusCode::BAD_SESSION_ID_INVALID);
}

#[test]
fn a_certificate_without_its_key_proves_nobody() {
    let mut server = Server::new();
    for (by, status) in [(1, StatusCode::BAD_USER_SIGNATURE_INVALID), (0, StatusCode::GOOD)] {
        let created = server.create(1);
        let nonce = created.server_nonce.as_bytes().to_vec();
        let certificate_data = identities()[0].certificate.clone().into();
        let user = X509IdentityToken { policy_id: Some("Certificate".to_owned()), certificate_data };
        let mut request = activate(&created.authentication_token, &nonce, &password(&nonce));
        (request.user_identity_token, request.user_token_signature) = (user.to_object(), signed(by, &nonce));
        assert_eq!(server.status(1, 0, request), status);
    }
    // Whoever uses a session before it is active loses it.
    let token = server.create(1).authentication_token;
    assert_eq!(server.status(1, 0, read(&token)), StatusCode::BAD_SESSION_NOT_ACTIVATED);
    assert_eq!(server.status(1, 0, read(&token)), StatusCode::BAD_SESSION_ID_INVALID);
    let without_nonce = CreateSessionRequest {
        client_certificate: identities()[0].certificate.clone().into(),
        ..CreateSessionRequest::default()
    };
    assert_eq!(server.status(1, 0, without_nonce.clone()), StatusCode::BAD_NONCE_INVALID);
    let of_another = CreateSessionRequest { client_nonce: vec![1; 32].into(), ..without_nonce };
    assert_eq!(server.status(1, 1, of_another), StatusCode::BAD_CERTIFICATE_INVALID);
}
