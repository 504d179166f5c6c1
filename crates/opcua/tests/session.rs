//! Sessions of a client with a server, joined in memory.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod identities;

use identities::identities;
use interlex_opcua::{
    ChannelInfo, ClientChannelConfig, ClientSession, ClientSessionConfig, ClientSessionEvent, Credentials, DateTime,
    EndpointDifference, Handled, MessageSecurityMode, NotSent, ReadRequest, ReadResponse, Request, RequestError,
    Response, SecurityPolicy, ServerChannel, ServerChannelConfig, ServerChannelEvent, ServerDescription, SessionError,
    Sessions, StatusCode, TransportLimits, User, UserIdentity, UserTokenType, Users,
};
use std::time::{Duration, Instant};

const WALL: DateTime = DateTime(133_536_836_967_890_000);
const URL: &str = "opc.tcp://engine.alderfen:4840";

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

struct Staff;

impl Users for Staff {
    fn takes(&self, user: &User) -> bool {
        match user {
            User::Anonymous => true,
            User::Password { name, password } => name == "anna" && password == "alderfen works 1",
            User::Certificate(certificate) => *certificate == identities()[1].certificate,
        }
    }
}

struct Pair {
    client: ClientSession,
    sessions: Sessions,
    channel: Option<ServerChannel>,
    channels: u32,
    now: Instant,
    news: Vec<ClientSessionEvent>,
    /// Who asked last.
    user: Option<User>,
    /// So many bytes more go either way before the connection ends.
    left: Option<usize>,
}

fn description(policy: SecurityPolicy, mode: MessageSecurityMode) -> ServerDescription {
    ServerDescription {
        url: URL.to_owned(),
        application_uri: "urn:alderfen:chp".to_owned(),
        application_name: "Engine".to_owned(),
        own: Some(identities()[1].clone()),
        security: vec![(policy, mode)],
        users: vec![
            (UserTokenType::Anonymous, None),
            (UserTokenType::UserName, None),
            (UserTokenType::Certificate, Some(SecurityPolicy::Basic256Sha256)),
        ],
        session_timeout: (Duration::from_secs(10), Duration::from_secs(3600)),
        most_sessions: 3,
    }
}

fn config(description: &ServerDescription, user: UserIdentity) -> ClientSessionConfig {
    let [client, server] = identities();
    let (policy, mode) = description.security[0];
    let discovered = description.endpoints();
    ClientSessionConfig {
        channel: ClientChannelConfig {
            url: URL.to_owned(),
            policy,
            mode,
            own: Some(client),
            server_certificate: server.certificate,
            limits: TransportLimits::default(),
            token_lifetime: Duration::from_secs(3600),
            timeout: Duration::from_secs(5),
            trace: false,
        },
        application_uri: "urn:alderfen:gateway".to_owned(),
        application_name: "Gateway".to_owned(),
        session_name: "chp".to_owned(),
        user,
        endpoint: discovered[0].clone(),
        discovered: Some(discovered),
        session_timeout: Duration::from_secs(300),
        request_timeout: Duration::from_secs(5),
    }
}

fn pair(description: ServerDescription, user: UserIdentity) -> Pair {
    Pair {
        client: ClientSession::new(config(&description, user)),
        sessions: Sessions::new(description),
        channel: None,
        channels: 0,
        now: start(),
        news: Vec::new(),
        user: None,
        left: None,
    }
}

impl Pair {
    fn connect(&mut self) {
        self.channels += 1;
        let described = self.sessions.description();
        let config = ServerChannelConfig {
            channel: self.channels,
            own: described.own.clone(),
            security: described.security.clone(),
            limits: TransportLimits::default(),
            longest_token: Duration::from_secs(3600),
            timeout: Duration::from_secs(10),
        };
        self.channel = Some(ServerChannel::new(config, self.now));
        self.client.connected(self.now);
        self.drive();
    }

    fn cut(&mut self) {
        (self.channel, self.left) = (None, None);
        self.client.disconnected();
        self.collect();
    }

    fn collect(&mut self) {
        while let Some(event) = self.client.poll_event() {
            self.news.push(event);
        }
    }

    /// As many of the bytes as go through.
    fn through(&mut self, bytes: &mut Vec<u8>) {
        if let Some(left) = &mut self.left {
            bytes.truncate(*left);
            *left -= bytes.len();
        }
    }

    /// Carries bytes until nobody has any, or the connection ends.
    fn drive(&mut self) {
        while let Some(mut channel) = self.channel.take() {
            let (mut there, mut back) = (Vec::new(), Vec::new());
            let has_sent = self.client.poll_transmit(&mut there);
            self.through(&mut there);
            channel.handle_input(self.now, WALL, &there);
            while let Some(event) = channel.poll_event() {
                match event {
                    ServerChannelEvent::Opening { .. } => channel.accept(self.now, WALL),
                    ServerChannelEvent::Request(id, request) => self.serve(&mut channel, id, &request),
                    _ => {}
                }
            }
            let has_answered = channel.poll_transmit(&mut back);
            self.through(&mut back);
            self.client.handle_input((self.now, WALL), &back);
            self.collect();
            self.channel = Some(channel);
            if !has_sent && !has_answered {
                return;
            }
        }
    }

    fn serve(&mut self, channel: &mut ServerChannel, id: u32, request: &Request) {
        let ((policy, mode), certificate) = (channel.security(), channel.certificate().to_vec());
        let info = ChannelInfo { id: self.channels, policy, mode, certificate: &certificate };
        match self.sessions.handle((self.now, WALL), info, request, &Staff) {
            Handled::Answer(answer) | Handled::Ended { answer, .. } => channel.respond(id, &answer),
            Handled::Of { user, .. } => {
                self.user = Some(user);
                let mut answer = ReadResponse::default();
                answer.response_header.request_handle = request.header().request_handle;
                channel.respond(id, &answer.into());
            }
        }
    }

    fn last(&self) -> &ClientSessionEvent {
        self.news.last().unwrap()
    }

    fn down(&self) -> &SessionError {
        match self.last() {
            ClientSessionEvent::Down(error) => error,
            other => panic!("{other:?}"),
        }
    }

    fn read(&mut self) {
        let id = self.client.request((self.now, WALL), ReadRequest::default().into(), Duration::from_secs(5)).unwrap();
        self.drive();
        let ClientSessionEvent::Answered(of, Ok(answer)) = self.last() else { panic!("{:?}", self.last()) };
        assert!(*of == id && matches!(**answer, Response::Read(_)));
    }
}

const NONE: (SecurityPolicy, MessageSecurityMode) = (SecurityPolicy::None, MessageSecurityMode::None);
const ENCRYPTED: (SecurityPolicy, MessageSecurityMode) =
    (SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
const NEW: ClientSessionEvent = ClientSessionEvent::Active { is_new: true };
const AGAIN: ClientSessionEvent = ClientSessionEvent::Active { is_new: false };

fn anna(allow_clear: bool) -> UserIdentity {
    UserIdentity::Password { user: "anna".to_owned(), password: "alderfen works 1".to_owned(), allow_clear }
}

#[test]
fn every_user_comes_in_over_every_policy() {
    let certificate = || UserIdentity::Certificate(identities()[1].clone().into());
    for policy in SecurityPolicy::ALL {
        let mode = if policy == SecurityPolicy::None {
            MessageSecurityMode::None
        } else {
            MessageSecurityMode::SignAndEncrypt
        };
        for user in [UserIdentity::Anonymous, anna(true), certificate()] {
            let (words, mut pair) = (format!("{policy} {user:?}"), pair(description(policy, mode), user));
            pair.connect();
            assert_eq!(pair.last(), &NEW, "{words}");
            pair.read();
            let is_told = format!("{:?}", pair.user);
            assert!(words.contains("anybody") == (is_told == "Some(Anonymous)"), "{words}: {is_told}");
        }
    }
}

#[test]
fn a_password_goes_out_encrypted_or_not_at_all_unless_somebody_allows_it() {
    let mut clear = pair(description(NONE.0, NONE.1), anna(false));
    clear.connect();
    assert_eq!(clear.down(), &SessionError::PasswordInTheClear);
    // The server's certificate encrypts it without a secure channel.
    let mut described = description(NONE.0, NONE.1);
    described.users = vec![(UserTokenType::UserName, Some(SecurityPolicy::Aes256Sha256RsaPss))];
    let mut encrypted = pair(described.clone(), anna(false));
    encrypted.connect();
    assert_eq!(encrypted.last(), &NEW);
    let mut nobody = pair(described, UserIdentity::Anonymous);
    nobody.connect();
    let words = "the server takes a user with a password at this endpoint, not anybody";
    assert_eq!(nobody.down().to_string(), words);
    let wrong = UserIdentity::Password { user: "anna".to_owned(), password: "x".to_owned(), allow_clear: true };
    let mut wrong = pair(description(ENCRYPTED.0, ENCRYPTED.1), wrong);
    wrong.connect();
    assert_eq!(wrong.down(), &SessionError::Refused("ActivateSession", StatusCode::BAD_IDENTITY_TOKEN_REJECTED));
}

#[test]
fn a_session_outlives_its_connections_until_the_server_forgets_it() {
    for (policy, mode) in [NONE, ENCRYPTED] {
        let mut pair = pair(description(policy, mode), anna(true));
        pair.connect();
        let id = pair.client.id().cloned();
        let lost =
            pair.client.request((pair.now, WALL), ReadRequest::default().into(), Duration::from_secs(5)).unwrap();
        pair.cut();
        assert_eq!(pair.last(), &ClientSessionEvent::Answered(lost, Err(RequestError::Lost)));
        pair.now += Duration::from_secs(299);
        assert_eq!(pair.sessions.handle_timeout(pair.now), [0; 0]);
        pair.connect();
        assert_eq!((pair.last(), pair.client.id()), (&AGAIN, id.as_ref()));
        pair.read();
        pair.cut();
        pair.now += Duration::from_secs(301);
        assert_eq!(pair.sessions.handle_timeout(pair.now), [1]);
        pair.connect();
        assert_eq!(pair.last(), &NEW);
        assert_ne!(pair.client.id(), id.as_ref());
        pair.read();
        // The server ends it while the connection stands, and much is asked.
        pair.now += Duration::from_secs(1);
        pair.sessions.end(2);
        pair.news.clear();
        let ids = [(); 3].map(|()| {
            pair.client.request((pair.now, WALL), ReadRequest::default().into(), Duration::from_secs(5)).unwrap()
        });
        pair.drive();
        let fault = RequestError::Fault(StatusCode::BAD_SESSION_ID_INVALID);
        let answers = ids.into_iter().zip([fault, RequestError::Lost, RequestError::Lost]);
        let answers = answers.map(|(id, error)| ClientSessionEvent::Answered(id, Err(error)));
        assert_eq!(pair.news, answers.chain([NEW]).collect::<Vec<_>>(), "and one more is had at once");
        assert_eq!(pair.sessions.len(), 1);
        pair.read();
        // One that ends at once is not: it would be so without a pause.
        pair.sessions.end(3);
        pair.client.request((pair.now, WALL), ReadRequest::default().into(), Duration::from_secs(5)).unwrap();
        pair.drive();
        assert_eq!(pair.down(), &SessionError::Refused("a request", StatusCode::BAD_SESSION_ID_INVALID));
        pair.connect();
        assert_eq!(pair.last(), &NEW);
    }
}

#[test]
fn wherever_the_connection_is_cut_the_next_one_brings_a_session() {
    for left in (0..2600).step_by(13) {
        let mut pair = pair(description(NONE.0, NONE.1), UserIdentity::Anonymous);
        pair.left = Some(left);
        pair.connect();
        pair.cut();
        pair.now += Duration::from_secs(1);
        pair.connect();
        assert!(matches!(pair.last(), ClientSessionEvent::Active { .. }), "after {left} bytes: {:?}", pair.news);
        pair.read();
        assert!(pair.sessions.len() <= 2);
    }
}

#[test]
fn a_server_that_is_not_what_discovery_told_is_not_trusted() {
    let mut pair = pair(description(ENCRYPTED.0, ENCRYPTED.1), UserIdentity::Anonymous);
    let mut told = description(ENCRYPTED.0, ENCRYPTED.1);
    told.security.push(NONE);
    pair.sessions = Sessions::new(told);
    pair.connect();
    let new = EndpointDifference::New("None with None".to_owned());
    assert_eq!(pair.down(), &SessionError::Endpoints(new));

    // Another program behind the channel: its certificate is another, or it has not the key.
    let mut pair = self::pair(description(ENCRYPTED.0, ENCRYPTED.1), UserIdentity::Anonymous);
    pair.connect();
    assert_eq!(pair.last(), &NEW);
    for (certificate, key, error) in [(0, 0, SessionError::Certificate), (1, 0, SessionError::Signature)] {
        let mut other = self::pair(description(ENCRYPTED.0, ENCRYPTED.1), UserIdentity::Anonymous);
        let mut told = description(ENCRYPTED.0, ENCRYPTED.1);
        let certificate = identities()[certificate].certificate.clone();
        told.own = Some(Credentials { certificate, key: identities()[key].key.clone() });
        // The channel is that of the right one.
        let good = other.sessions.description().own.clone();
        other.sessions = Sessions::new(told);
        other.connect_as(good);
        assert_eq!(other.down(), &error);
    }
}

impl Pair {
    fn connect_as(&mut self, own: Option<Credentials>) {
        let security = self.sessions.description().security.clone();
        let limits = TransportLimits::default();
        let (longest_token, timeout) = (Duration::from_secs(3600), Duration::from_secs(10));
        let config = ServerChannelConfig { channel: 1, own, security, limits, longest_token, timeout };
        self.channel = Some(ServerChannel::new(config, self.now));
        self.channels = 1;
        self.client.connected(self.now);
        self.drive();
    }
}

#[test]
fn answers_that_do_not_come_are_told_and_nothing_is_asked_without_a_session() {
    let mut pair = pair(description(NONE.0, NONE.1), UserIdentity::Anonymous);
    let early = pair.client.request((pair.now, WALL), ReadRequest::default().into(), Duration::from_secs(5));
    assert_eq!(early, Err(NotSent::Closed));
    pair.connect();
    let id = pair.client.request((pair.now, WALL), ReadRequest::default().into(), Duration::from_secs(2)).unwrap();
    assert_eq!(pair.client.poll_timeout(), Some(pair.now + Duration::from_secs(2)));
    pair.client.handle_timeout((pair.now + Duration::from_secs(2), WALL));
    pair.collect();
    assert_eq!(pair.last(), &ClientSessionEvent::Answered(id, Err(RequestError::Timeout)));
    // What comes late is nobody's.
    let before = pair.news.len();
    pair.drive();
    assert_eq!(pair.news.len(), before);
    pair.client.close((pair.now, WALL), true);
    pair.drive();
    assert!(pair.sessions.is_empty() && pair.client.id().is_none());
}

#[test]
fn sessions_are_limited_and_belong_to_their_channels() {
    let mut pair = pair(description(NONE.0, NONE.1), UserIdentity::Anonymous);
    for _ in 0..3 {
        pair.client = ClientSession::new(config(&description(NONE.0, NONE.1), UserIdentity::Anonymous));
        pair.connect();
        assert_eq!(pair.last(), &NEW);
    }
    pair.client = ClientSession::new(config(&description(NONE.0, NONE.1), UserIdentity::Anonymous));
    pair.connect();
    assert_eq!(pair.down(), &SessionError::Refused("CreateSession", StatusCode::BAD_TOO_MANY_SESSIONS));
}
