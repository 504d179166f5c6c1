//! A client and a server, joined in memory.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod identities;

use identities::identities;
use interlex_opcua::{
    Array, Binary, ChannelError, ClientChannel, ClientChannelConfig, ClientChannelEvent, DataValue, DateTime,
    FrameError, MessageSecurityMode, NodeId, NotSent, ReadRequest, ReadResponse, ReadValueId, Request, RequestId,
    Response, SecurityPolicy, ServerChannel, ServerChannelConfig, ServerChannelEvent, StatusCode, TransportLimits,
    Variant,
};
use std::time::{Duration, Instant};

const WALL: DateTime = DateTime(133_536_836_967_890_000);

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

struct Pair {
    client: ClientChannel,
    server: ServerChannel,
    now: Instant,
    /// Bytes cut into pieces of so many.
    cut: usize,
    news: Vec<ClientChannelEvent>,
    heard: Vec<ServerChannelEvent>,
    accepts: bool,
}

fn config(policy: SecurityPolicy, mode: MessageSecurityMode) -> (ClientChannelConfig, ServerChannelConfig) {
    let [client, server] = identities();
    let client = ClientChannelConfig {
        url: "opc.tcp://engine.alderfen:4840".to_owned(),
        policy,
        mode,
        own: Some(client),
        server_certificate: server.certificate.clone(),
        limits: TransportLimits::default(),
        token_lifetime: Duration::from_secs(3600),
        timeout: Duration::from_secs(5),
        trace: false,
    };
    let server = ServerChannelConfig {
        channel: 5,
        own: Some(server),
        security: vec![(policy, mode)],
        limits: TransportLimits::default(),
        longest_token: Duration::from_secs(3600),
        timeout: Duration::from_secs(10),
    };
    (client, server)
}

impl Pair {
    fn new((client, server): (ClientChannelConfig, ServerChannelConfig)) -> Self {
        let now = start();
        let (client, server) = (ClientChannel::new(client, now), ServerChannel::new(server, now));
        Self { client, server, now, cut: 1000, news: Vec::new(), heard: Vec::new(), accepts: true }
    }

    /// Carries bytes until nobody has any; the server answers what it is asked.
    fn drive(&mut self) {
        loop {
            let (mut there, mut back) = (Vec::new(), Vec::new());
            let has_sent = self.client.poll_transmit(&mut there);
            for piece in there.chunks(self.cut) {
                self.server.handle_input(self.now, WALL, piece);
            }
            while let Some(event) = self.server.poll_event() {
                match &event {
                    ServerChannelEvent::Opening { .. } if self.accepts => self.server.accept(self.now, WALL),
                    ServerChannelEvent::Opening { .. } => {
                        self.server.refuse(StatusCode::BAD_SECURITY_CHECKS_FAILED, "not trusted");
                    }
                    ServerChannelEvent::Request(id, request) => {
                        let Request::Read(read) = &**request else { panic!("{request:?}") };
                        let mut response = ReadResponse::default();
                        response.response_header.request_handle = read.request_header.request_handle;
                        let values = read.nodes_to_read.iter().map(|node| DataValue {
                            value: Some(Variant::from(node.attribute_id)),
                            ..DataValue::default()
                        });
                        response.results = values.collect();
                        self.server.respond(*id, &response.into());
                    }
                    _ => {}
                }
                self.heard.push(event);
            }
            let has_answered = self.server.poll_transmit(&mut back);
            for piece in back.chunks(self.cut) {
                self.client.handle_input(self.now, piece);
            }
            while let Some(event) = self.client.poll_event() {
                self.news.push(event);
            }
            if !has_sent && !has_answered {
                return;
            }
        }
    }

    /// The last thing that the client was told.
    fn last(&self) -> &ClientChannelEvent {
        self.news.last().unwrap()
    }
}

fn read(count: u32) -> Request {
    let node = |attribute_id| ReadValueId {
        node_id: NodeId::text(2, format!("Engine.Cylinder{attribute_id}.ExhaustTemperature")),
        attribute_id,
        ..ReadValueId::default()
    };
    ReadRequest { nodes_to_read: (0..count).map(node).collect(), ..ReadRequest::default() }.into()
}

/// Reads so many, and looks whether the answer is theirs.
fn reads(pair: &mut Pair, count: u32) {
    let id = pair.client.request(read(count)).unwrap();
    pair.drive();
    let ClientChannelEvent::Response(of, response) = pair.last() else { panic!("{:?}", pair.last()) };
    let Response::Read(response) = &**response else { panic!("{response:?}") };
    assert_eq!(*of, id);
    let values = response.results.iter().map(|value| value.value.clone().unwrap());
    assert!(values.eq((0..count).map(Variant::from)));
}

#[test]
fn every_policy_and_mode_carries_small_and_large_messages_however_they_are_cut_up() {
    let secure =
        [SecurityPolicy::Aes128Sha256RsaOaep, SecurityPolicy::Basic256Sha256, SecurityPolicy::Aes256Sha256RsaPss];
    let modes = [MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt];
    let mut all = vec![(SecurityPolicy::None, MessageSecurityMode::None)];
    all.extend(secure.into_iter().zip(modes.into_iter().cycle()));
    all.push((SecurityPolicy::Aes256Sha256RsaPss, MessageSecurityMode::SignAndEncrypt));
    for (policy, mode) in all {
        let (mut client, server) = config(policy, mode);
        client.limits.send_buffer = 8192;
        client.limits.receive_buffer = 8192;
        let mut pair = Pair::new((client, server));
        pair.cut = 997;
        pair.drive();
        assert_eq!(pair.last(), &ClientChannelEvent::Opened, "{policy} {mode:?}");
        // From one frame to many, around the ends of blocks and of frames.
        for count in (1..20).chain([95, 96, 97, 98, 99, 2000]) {
            reads(&mut pair, count);
        }
    }
}

#[test]
fn keys_are_renewed_in_time_while_messages_are_under_way() {
    let (mut client, server) = config(SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
    client.token_lifetime = Duration::from_secs(60);
    let mut pair = Pair::new((client, server));
    pair.drive();
    for round in 1..4 {
        let due = pair.client.poll_timeout().unwrap();
        assert_eq!(due, pair.now + Duration::from_secs(45), "after three quarters of its life");
        pair.now = due;
        // What was sent with the old keys arrives after the new ones were asked for.
        let early = pair.client.request(read(3)).unwrap();
        pair.client.handle_timeout(pair.now);
        let late = pair.client.request(read(4)).unwrap();
        pair.drive();
        let answered = pair.news.iter().rev().filter_map(|event| match event {
            ClientChannelEvent::Response(id, _) => Some(*id),
            _ => None,
        });
        let answered: Vec<RequestId> = answered.take(2).collect();
        assert_eq!(answered, [late, early]);
        assert_eq!(pair.news.iter().filter(|event| **event == ClientChannelEvent::Renewed).count(), round);
        reads(&mut pair, 2);
    }
    // A client that does not renew loses the channel, a quarter after the end.
    pair.now += Duration::from_secs(74);
    pair.server.handle_timeout(pair.now);
    assert_eq!(pair.server.poll_event(), None);
    pair.now += Duration::from_secs(2);
    pair.server.handle_timeout(pair.now);
    assert!(matches!(pair.server.poll_event(), Some(ServerChannelEvent::Closed(Some(ChannelError::Timeout(_))))));
}

fn closed(pair: &Pair) -> &ChannelError {
    match pair.last() {
        ClientChannelEvent::Closed(error) => error,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_channel_that_is_not_what_was_asked_for_is_not_opened() {
    let (policy, mode) = (SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
    let mut pair = Pair::new(config(policy, mode));
    pair.accepts = false;
    pair.drive();
    assert_eq!(closed(&pair).to_string(), "the other side closes the connection: BadSecurityChecksFailed, not trusted");

    let (mut client, server) = config(policy, mode);
    client.mode = MessageSecurityMode::Sign;
    let mut pair = Pair::new((client, server));
    pair.drive();
    assert!(matches!(closed(&pair), ChannelError::Told(_)), "what is not offered is refused");

    // The client trusts another certificate: the server cannot even read what it is told.
    let (mut client, server) = config(policy, mode);
    client.server_certificate = client.own.clone().unwrap().certificate;
    let mut pair = Pair::new((client, server));
    pair.drive();
    assert!(matches!(closed(&pair), ChannelError::Told(told) if told.error == StatusCode::BAD_CERTIFICATE_INVALID));

    let (mut client, server) = config(policy, mode);
    client.limits.receive_buffer = 8191;
    let mut pair = Pair::new((client, server));
    pair.drive();
    assert!(matches!(closed(&pair), ChannelError::Told(told) if told.error == StatusCode::BAD_CONNECTION_REJECTED));
}

#[test]
fn what_does_not_come_in_time_ends_the_channel() {
    let (client, _) = config(SecurityPolicy::None, MessageSecurityMode::None);
    let now = start();
    let mut client = ClientChannel::new(client, now);
    assert_eq!(client.poll_timeout(), Some(now + Duration::from_secs(5)));
    client.handle_timeout(now + Duration::from_secs(4));
    assert_eq!(client.poll_event(), None);
    client.handle_timeout(now + Duration::from_secs(5));
    assert_eq!(client.poll_event(), Some(ClientChannelEvent::Closed(ChannelError::Timeout("the acknowledgement"))));
    assert_eq!(client.request(read(1)), Err(NotSent::Closed));
}

#[test]
fn limits_of_the_other_side_are_kept_to() {
    let (mut client, mut server) = config(SecurityPolicy::None, MessageSecurityMode::None);
    (client.limits.receive_chunks, server.limits.receive_message) = (2, 100_000);
    let mut pair = Pair::new((client, server));
    pair.drive();
    let error = pair.client.request(read(5000)).unwrap_err();
    assert!(matches!(&error, NotSent::TooLarge(why) if why.contains("where the other side takes 100000")), "{error}");
    reads(&mut pair, 1000);
    // An answer that is too large for the client is told as a fault.
    let id = pair.client.request(read(1)).unwrap();
    let mut bytes = Vec::new();
    assert!(pair.client.poll_transmit(&mut bytes));
    pair.server.handle_input(pair.now, WALL, &bytes);
    assert!(matches!(pair.server.poll_event(), Some(ServerChannelEvent::Request(..))));
    let long = DataValue { value: Some(Variant::Array(Array::Int64(vec![7; 50_000]))), ..DataValue::default() };
    let response = ReadResponse { results: vec![long], ..ReadResponse::default() };
    pair.server.respond(id.0, &response.into());
    pair.drive();
    let ClientChannelEvent::Response(_, response) = pair.last() else { panic!("{:?}", pair.last()) };
    assert_eq!(response.header().service_result, StatusCode::BAD_RESPONSE_TOO_LARGE);
}

#[test]
fn words_for_what_is_no_opc_ua() {
    let (client, _) = config(SecurityPolicy::None, MessageSecurityMode::None);
    let mut client = ClientChannel::new(client, start());
    client.handle_input(start(), b"HTTP/1.1 400 Bad Request\r\n");
    let Some(ClientChannelEvent::Closed(error)) = client.poll_event() else { panic!() };
    assert_eq!(error, ChannelError::Frame(FrameError::Type(*b"HTT")));
    assert_eq!(error.to_string(), "no OPC UA: the message type is HTT");
    assert_eq!(NodeId::NULL.to_bytes(), [0, 0]);
}
