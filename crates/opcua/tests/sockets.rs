//! Our client and our server over sockets: every way to secure a channel and to prove who one is, and what cuts do.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;
mod identities;

use engine::{Controller, Everybody, id, with_engine};
use identities::identities;
use interlex_opcua::*;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

const PATIENCE: Duration = Duration::from_secs(20);

struct Running {
    address: SocketAddr,
    host: Arc<Host<Controller>>,
    stop: CancellationToken,
    serving: JoinHandle<std::io::Result<()>>,
}

const SECURE: [SecurityPolicy; 3] =
    [SecurityPolicy::Aes128Sha256RsaOaep, SecurityPolicy::Basic256Sha256, SecurityPolicy::Aes256Sha256RsaPss];

impl Running {
    async fn start(trust: Trust) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let modes = [MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt];
        let secure = SECURE.into_iter().flat_map(|policy| modes.map(|mode| (policy, mode)));
        let description = ServerDescription {
            url: format!("opc.tcp://{address}"),
            application_uri: "urn:alderfen:chp".to_owned(),
            application_name: "Engine".to_owned(),
            own: Some(identities()[1].clone()),
            security: std::iter::once((SecurityPolicy::None, MessageSecurityMode::None)).chain(secure).collect(),
            users: vec![
                (UserTokenType::Anonymous, None),
                (UserTokenType::UserName, Some(SecurityPolicy::Basic256Sha256)),
                (UserTokenType::Certificate, Some(SecurityPolicy::Basic256Sha256)),
            ],
            session_timeout: (Duration::from_secs(10), Duration::from_secs(3600)),
            most_sessions: 10,
        };
        let space = with_engine(Space::default());
        let server =
            Server::new(Sessions::new(description), space, ServerLimits::default(), &["urn:alderfen:chp:types"]);
        let config = HostConfig {
            limits: TransportLimits::default(),
            longest_token: Duration::from_secs(3600),
            timeout: PATIENCE,
            most_channels: 5,
            trust,
        };
        let host = Host::new(server, Controller::default(), Everybody, config);
        let stop = CancellationToken::new();
        let serving = tokio::spawn(Arc::clone(&host).serve(listener, stop.clone()));
        Self { address, host, stop, serving }
    }

    async fn session(&self, policy: SecurityPolicy, mode: MessageSecurityMode, user: UserIdentity) -> ClientSession {
        let url = format!("opc.tcp://{}", self.address);
        let stream = TcpStream::connect(self.address).await.unwrap();
        let endpoints = endpoints_of(stream, &url, PATIENCE).await.unwrap();
        let is_wanted = |endpoint: &&EndpointDescription| {
            endpoint.security_mode == mode && endpoint.security_policy_uri == Some(policy.uri())
        };
        let endpoint = endpoints.iter().find(is_wanted).unwrap().clone();
        ClientSession::new(ClientSessionConfig {
            channel: ClientChannelConfig {
                url,
                policy,
                mode,
                own: Some(identities()[0].clone()),
                server_certificate: endpoint.server_certificate.as_bytes().to_vec(),
                limits: TransportLimits::default(),
                token_lifetime: Duration::from_secs(3600),
                timeout: PATIENCE,
                trace: false,
            },
            application_uri: "urn:alderfen:gateway".to_owned(),
            application_name: "Gateway".to_owned(),
            session_name: "chp".to_owned(),
            user,
            endpoint,
            discovered: Some(endpoints),
            session_timeout: Duration::from_secs(300),
            request_timeout: PATIENCE,
        })
    }

    async fn connect(&self, session: &mut ClientSession) -> Result<(Connection, bool), ConnectionError> {
        let mut connection = Connection::new(TcpStream::connect(self.address).await?, session);
        let is_new = connection.entered(session).await?;
        Ok((connection, is_new))
    }

    async fn end(self) {
        self.stop.cancel();
        self.serving.await.unwrap().unwrap();
    }
}

fn everybody() -> Trust {
    Arc::new(|_| Ok(()))
}

async fn read(connection: &mut Connection, session: &mut ClientSession, node: NodeId) -> DataValue {
    let wanted = ReadValueId { node_id: node, attribute_id: 13, ..ReadValueId::default() };
    let request = ReadRequest { nodes_to_read: vec![wanted], ..ReadRequest::default() };
    let Response::Read(mut response) = connection.ask(session, request, PATIENCE).await.unwrap() else { panic!() };
    response.results.remove(0)
}

#[tokio::test(flavor = "multi_thread")]
async fn values_are_read_over_every_policy_mode_and_user() {
    let server = Running::start(everybody()).await;
    let password =
        || UserIdentity::Password { user: "anna".to_owned(), password: "works 1".to_owned(), allow_clear: false };
    let modes = [MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt];
    let secure = SECURE.into_iter().flat_map(|policy| modes.map(|mode| (policy, mode)));
    for (policy, mode) in std::iter::once((SecurityPolicy::None, MessageSecurityMode::None)).chain(secure) {
        let users = [UserIdentity::Anonymous, password(), UserIdentity::Certificate(identities()[0].clone().into())];
        for user in users {
            let mut session = server.session(policy, mode, user).await;
            let (mut connection, is_new) = server.connect(&mut session).await.unwrap();
            let value = read(&mut connection, &mut session, id("Speed")).await;
            assert_eq!((is_new, value.value), (true, Some(1500.0.into())), "{policy} {mode:?}");
            connection.close(&mut session, true, PATIENCE).await;
        }
    }
    assert!(server.host.with(|server, _, _| server.sessions().is_empty()), "closed in order");
    server.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_not_trusted_is_told_so_and_who_sends_nonsense_only_loses_the_connection() {
    let [client, _] = identities();
    let server = Running::start(Arc::new(move |shown| {
        let is_known = leaf_certificate(shown) == leaf_certificate(&client.certificate);
        if is_known || shown.is_empty() { Ok(()) } else { Err(StatusCode::BAD_SECURITY_CHECKS_FAILED) }
    }))
    .await;
    let (policy, mode) = (SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
    let mut known = server.session(policy, mode, UserIdentity::Anonymous).await;
    let (mut connection, _) = server.connect(&mut known).await.unwrap();
    for nonsense in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0; 5000], b"HELF\xff\xff\xff\xff"] {
        let mut stream = TcpStream::connect(server.address).await.unwrap();
        tokio::io::AsyncWriteExt::write_all(&mut stream, nonsense).await.unwrap();
        let mut answer = Vec::new();
        // It may be closed in order, or hard.
        let _ = tokio::io::AsyncReadExt::read_to_end(&mut stream, &mut answer).await;
        assert!(answer.is_empty() || answer.starts_with(b"ERRF"), "{answer:?}");
    }
    assert_eq!(read(&mut connection, &mut known, id("Speed")).await.value, Some(1500.0.into()));
    server.end().await;

    let nobody =
        Running::start(Arc::new(
            |shown| {
                if shown.is_empty() { Ok(()) } else { Err(StatusCode::BAD_SECURITY_CHECKS_FAILED) }
            },
        ))
        .await;
    let mut stranger = nobody.session(policy, mode, UserIdentity::Anonymous).await;
    let refused = nobody.connect(&mut stranger).await.unwrap_err().to_string();
    assert!(refused.contains("BadSecurityChecksFailed"), "{refused}");
    nobody.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_calls_is_answered_by_who_expects_it_and_others_are_sent_away() {
    let server = Running::start(everybody()).await;
    let (policy, mode) = (SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
    let mut session = server.session(policy, mode, UserIdentity::Anonymous).await;
    let door = Arc::new(ReverseDoor::default());
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let serving = tokio::spawn(Arc::clone(&door).serve(listener, server.stop.clone()));
    let mut expected = door.expect("urn:alderfen:chp").unwrap();
    assert!(door.expect("urn:alderfen:chp").is_err(), "by one only");
    // Those who say nothing, nonsense, or another name.
    let stranger = door.stranger();
    let mut others = Vec::new();
    let other = ReverseHello { server_uri: Some("urn:x".to_owned()), endpoint_url: None };
    let mut words = Vec::new();
    encode_frame(MessageType::ReverseHello, ChunkType::Final, &other.to_bytes(), &mut words);
    for said in [&b""[..], b"GET / HTTP/1.1\r\n\r\n", b"RHEF\xff\xff\xff\xff", &words] {
        let mut stream = TcpStream::connect(address).await.unwrap();
        tokio::io::AsyncWriteExt::write_all(&mut stream, said).await.unwrap();
        others.push(stream);
    }
    assert_eq!(stranger.await, "urn:x", "and told");
    let calling = tokio::spawn(Arc::clone(&server.host).call(address, Duration::from_millis(20), server.stop.clone()));
    for is_first in [true, false] {
        let (stream, hello) = expected.call().await;
        assert_eq!(hello.server_uri.as_deref(), Some("urn:alderfen:chp"));
        let mut connection = Connection::new(stream, &mut session);
        assert_eq!(connection.entered(&mut session).await.unwrap(), is_first, "then it is the same session");
        assert_eq!(read(&mut connection, &mut session, id("Speed")).await.value, Some(1500.0.into()));
        session.disconnected();
    }
    drop(expected);
    assert!(door.expect("urn:alderfen:chp").is_ok(), "nobody expects it any more");
    server.stop.cancel();
    serving.await.unwrap().unwrap();
    calling.await.unwrap();
    server.end().await;
}

/// Follows the power through connections that are cut, and sessions that the server ends, and says what it was told.
struct Follow {
    session: ClientSession,
    follower: Follower,
    waiting: Vec<(RequestId, u32)>,
    live: Vec<DataValue>,
    history: Vec<DataValue>,
    missing: Vec<BackfillEvent>,
}

impl Follow {
    fn new(session: ClientSession) -> Self {
        let watch = WatchConfig {
            lifetime: Duration::from_secs(300),
            timeout: PATIENCE,
            at_once: 1000,
            pause: Duration::from_secs(1),
        };
        let backfill =
            BackfillConfig { values: 3, at_once: 10, timeout: PATIENCE, pause: Duration::from_millis(50), tries: 100 };
        let item = WatchedItem {
            what: ReadValueId { node_id: id("Power"), attribute_id: 13, ..ReadValueId::default() },
            sampling: Duration::ZERO,
            // Shorter than what may happen between two messages.
            queue_size: 4,
            filter: None,
        };
        let group =
            WatchedGroup { interval: Duration::from_millis(50), keep_alive: Duration::from_secs(1), items: vec![item] };
        let follower = Follower::new((watch, backfill), vec![group], [], Vec::new());
        Self { session, follower, waiting: Vec::new(), live: Vec::new(), history: Vec::new(), missing: Vec::new() }
    }

    fn ask(&mut self, (now, wall): Now) {
        while let Some((number, request, timeout)) = self.follower.poll_request(now) {
            self.waiting.push((self.session.request((now, wall), request, timeout).unwrap(), number));
        }
    }

    fn answered(&mut self, (now, _): Now, of: RequestId, answer: Result<Response, RequestError>) {
        let at = self.waiting.iter().position(|(request, _)| *request == of).unwrap();
        let (_, number) = self.waiting.remove(at);
        self.follower.handle_answer(now, number, answer);
        self.listen();
    }

    fn listen(&mut self) {
        while let Some(event) = self.follower.poll_event() {
            match event {
                FollowEvent::Live(WatchEvent::Values { subscription, number, values, .. }) => {
                    self.live.extend(values.into_iter().map(|(_, value)| value));
                    self.follower.taken(subscription, number);
                }
                FollowEvent::History(BackfillEvent::Values(_, values)) => self.history.extend(values),
                FollowEvent::History(missing @ BackfillEvent::Missing(..)) => self.missing.push(missing),
                FollowEvent::Live(WatchEvent::Refused(..) | WatchEvent::GroupRefused(..)) => panic!("{event:?}"),
                FollowEvent::Live(_) | FollowEvent::Again(..) | FollowEvent::History(_) => {}
            }
        }
    }

    fn cut(&mut self, (now, _): Now) {
        self.session.disconnected();
        self.follower.inactive();
        for (_, number) in std::mem::take(&mut self.waiting) {
            self.follower.handle_answer(now, number, Err(RequestError::Lost));
        }
        self.listen();
    }
}

/// Some values at once, each with a time of its own.
fn happen(server: &Running, made: &mut u32, count: u32) {
    for _ in 0..count {
        *made += 1;
        let source_time = Some(DateTime::from_unix_millis(1_800_000_000_000 + i64::from(*made)));
        let value = DataValue { value: Some(f64::from(*made).into()), source_time, ..DataValue::default() };
        server.host.with(|server, _, (_, wall)| server.set_value(&id("Power"), value, wall));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_or_doubled_over_two_hundred_cuts_with_history() {
    const CUTS: u32 = 200;
    let server = Running::start(everybody()).await;
    // Sessions are told by their numbers.
    let (policy, mode) = (SecurityPolicy::None, MessageSecurityMode::None);
    let mut follow = Follow::new(server.session(policy, mode, UserIdentity::Anonymous).await);
    server.host.with(|server, _, _| {
        server.offer("TransferSubscriptionsRequest", false);
        // Those of sessions that were ended go on for a while.
        server.limits_mut().subscriptions = 0;
    });
    let (mut seed, mut made, mut cuts) = (fastrand::Rng::with_seed(7), 0, 0);
    let (mut connection, is_new) = server.connect(&mut follow.session).await.unwrap();
    let now = || server.host.with(|_, _, now| now);
    happen(&server, &mut made, 1);
    follow.follower.activated(now().0, is_new);
    let is_done = |follow: &Follow, made: u32, cuts: u32| {
        let last = follow.live.last().and_then(|value| value.value.clone());
        cuts == CUTS && last == Some(f64::from(made).into()) && follow.follower.gaps() == 0
    };
    while !is_done(&follow, made, cuts) {
        // It all begins with the first value that is told.
        let goes_on = cuts < CUTS && !follow.live.is_empty();
        if goes_on {
            happen(&server, &mut made, seed.u32(0..8));
        }
        follow.ask(now());
        let due = follow.follower.poll_timeout();
        let event = tokio::select! {
            event = connection.event(&mut follow.session) => Some(event.unwrap()),
            () = tokio::time::sleep_until(due.unwrap_or(now().0 + PATIENCE).into()) => None,
        };
        let is_cut = goes_on && seed.u8(0..3) == 0;
        match event {
            // An answer that came, and was not taken before the connection was cut, is none.
            Some(ClientSessionEvent::Answered(of, answer)) if !is_cut => {
                follow.answered(now(), of, answer.map(|answer| *answer));
            }
            Some(ClientSessionEvent::Answered(..)) => {}
            Some(event) => panic!("{event:?}"),
            None => follow.follower.handle_timeout(now().0),
        }
        if is_cut {
            cuts += 1;
            drop(connection);
            follow.cut(now());
            happen(&server, &mut made, seed.u32(0..8));
            if seed.bool() {
                server.host.with(|server, _, _| (1..1000).for_each(|session| server.end_session(session)));
            }
            let is_new;
            (connection, is_new) = server.connect(&mut follow.session).await.unwrap();
            follow.follower.activated(now().0, is_new);
        }
    }
    assert_eq!(follow.missing, []);
    let number = |value: &DataValue| match value.value {
        Some(Variant::Scalar(Scalar::Double(number))) => number,
        ref other => panic!("{other:?}"),
    };
    let live: Vec<_> = follow.live.iter().map(number).collect();
    assert!(live.is_sorted_by(|one, next| one < next), "{live:?}");
    let mut all = [live, follow.history.iter().map(number).collect()].concat();
    all.sort_by(f64::total_cmp);
    assert_eq!(all, (1..=made).map(f64::from).collect::<Vec<_>>());
    assert!(!follow.history.is_empty());
    server.end().await;
}
