//! Our client and our server over sockets: every way to secure a channel and to prove who one is, and what cuts do.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod engine;
mod identities;

use engine::{Controller, Everybody, id, parameters, with_engine};
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

/// Makes the subscription of a session, and watches the power with it.
async fn watch_power(connection: &mut Connection, session: &mut ClientSession) -> u32 {
    let create = CreateSubscriptionRequest {
        requested_publishing_interval: 50.0,
        requested_max_keep_alive_count: 20,
        requested_lifetime_count: 6000,
        publishing_enabled: true,
        ..CreateSubscriptionRequest::default()
    };
    let Response::CreateSubscription(created) = connection.ask(session, create, PATIENCE).await.unwrap() else {
        panic!()
    };
    let item = MonitoredItemCreateRequest {
        item_to_monitor: ReadValueId { node_id: id("Power"), attribute_id: 13, ..ReadValueId::default() },
        monitoring_mode: MonitoringMode::Reporting,
        requested_parameters: parameters(1, 10_000),
    };
    let items = CreateMonitoredItemsRequest {
        subscription_id: created.subscription_id,
        items_to_create: vec![item],
        ..CreateMonitoredItemsRequest::default()
    };
    connection.ask(session, items, PATIENCE).await.unwrap();
    created.subscription_id
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_goes_on_over_another_connection_and_nothing_that_was_told_is_lost() {
    let server = Running::start(everybody()).await;
    let (policy, mode) = (SecurityPolicy::Aes128Sha256RsaOaep, MessageSecurityMode::SignAndEncrypt);
    let mut session = server.session(policy, mode, UserIdentity::Anonymous).await;
    let (mut connection, _) = server.connect(&mut session).await.unwrap();
    let subscription = watch_power(&mut connection, &mut session).await;
    let clock = tokio::time::Instant::now;
    let mut subscriber = Subscriber::default();
    subscriber.add(subscription, Duration::from_secs(1), Some(1), clock().into_std());
    let (mut waiting, mut told, mut made, mut cuts) = (Vec::new(), Vec::new(), 0, 0);
    let mut seed = fastrand::Rng::with_seed(7);
    while cuts < 20 || told.len() <= made {
        if cuts < 20 {
            for _ in 0..seed.usize(0..4) {
                made += 1;
                let value =
                    DataValue { value: Some(f64::from(u32::try_from(made).unwrap()).into()), ..DataValue::default() };
                server.host.with(|server, _, (_, wall)| server.set_value(&id("Power"), value, wall));
            }
        }
        while let Some((asked, request, timeout)) = subscriber.poll_request(clock().into_std()) {
            let now = server.host.with(|_, _, now| now);
            waiting.push((session.request(now, request, timeout).unwrap(), asked));
        }
        match connection.event(&mut session).await.unwrap() {
            ClientSessionEvent::Answered(of, answer) => {
                let at = waiting.iter().position(|(request, _)| *request == of).unwrap();
                let (_, asked) = waiting.remove(at);
                let is_cut = cuts < 20 && seed.u8(0..3) == 0;
                // An answer that came, and was not taken before the connection was cut.
                let answer = if is_cut { Err(RequestError::Lost) } else { answer.map(|answer| *answer) };
                subscriber.handle_answer(clock().into_std(), asked, answer);
                if is_cut {
                    cuts += 1;
                    drop(connection);
                    session.disconnected();
                    let is_new;
                    (connection, is_new) = server.connect(&mut session).await.unwrap();
                    assert!(!is_new);
                    for (_, asked) in waiting.drain(..) {
                        subscriber.handle_answer(clock().into_std(), asked, Err(RequestError::Lost));
                    }
                    subscriber.resumed(clock().into_std());
                }
            }
            other => panic!("{other:?}"),
        }
        while let Some(news) = subscriber.poll_news() {
            let News::Message { subscription, sequence_number, notifications } = news else { continue };
            for notification in notifications {
                let Notification::Data(data) = notification else { panic!("{notification:?}") };
                told.extend(data.monitored_items.into_iter().map(|item| item.value.value.unwrap()));
            }
            subscriber.acknowledge(subscription, sequence_number);
        }
    }
    let expected: Vec<_> = (0..=made).map(|number| Variant::from(f64::from(u32::try_from(number).unwrap()))).collect();
    assert_eq!(told, expected);
    server.end().await;
}
