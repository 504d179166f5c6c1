//! Somebody between client and server, or a client that means no good.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod identities;

use identities::identities;
use interlex_opcua::{
    Binary, ChannelError, ChunkType, ClientChannel, ClientChannelConfig, ClientChannelEvent, DateTime,
    MessageSecurityMode, MessageType, ReadRequest, ReadResponse, ReadValueId, Request, Response, SecurityPolicy,
    SequenceHeader, ServerChannel, ServerChannelConfig, ServerChannelEvent, StatusCode, TransportLimits, encode_frame,
};
use proptest::prelude::*;
use std::time::{Duration, Instant};

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

fn pair(policy: SecurityPolicy, mode: MessageSecurityMode, now: Instant) -> (ClientChannel, ServerChannel) {
    let [client, server] = identities();
    let limits = TransportLimits { receive_message: 100_000, ..TransportLimits::default() };
    let timeout = Duration::from_secs(5);
    let server_certificate = server.certificate.clone();
    let token_lifetime = Duration::from_secs(60);
    let client = ClientChannelConfig {
        url: "opc.tcp://engine.alderfen:4840".to_owned(),
        policy,
        mode,
        own: Some(client),
        server_certificate,
        limits,
        token_lifetime,
        timeout,
        trace: false,
    };
    let security = vec![(policy, mode)];
    let server =
        ServerChannelConfig { channel: 5, own: Some(server), security, limits, longest_token: token_lifetime, timeout };
    (ClientChannel::new(client, now), ServerChannel::new(server, now))
}

fn read() -> Request {
    ReadRequest { nodes_to_read: vec![ReadValueId::default(); 3], ..ReadRequest::default() }.into()
}

/// What somebody between does to the bytes that pass.
#[derive(Debug, Clone)]
enum Change {
    Flip(usize, u8),
    Drop(usize),
    Repeat,
    Insert(usize, u8),
}

fn changes() -> impl Strategy<Value = Change> {
    prop_oneof![
        4 => (any::<usize>(), 0_u8..8).prop_map(|(at, bit)| Change::Flip(at, bit)),
        1 => any::<usize>().prop_map(Change::Drop),
        1 => Just(Change::Repeat),
        1 => (any::<usize>(), any::<u8>()).prop_map(|(at, byte)| Change::Insert(at, byte)),
    ]
}

fn change(change: &Change, bytes: &mut Vec<u8>) {
    let length = bytes.len().max(1);
    match change {
        Change::Flip(at, bit) => bytes[at % length] ^= 1 << bit,
        Change::Drop(at) => _ = bytes.remove(at % length),
        Change::Repeat => bytes.extend(bytes.clone()),
        Change::Insert(at, byte) => bytes.insert(at % length, *byte),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn nothing_that_was_changed_on_the_way_is_taken_for_what_was_sent(
        what in changes(), turn in 0_usize..8, encrypts in any::<bool>(),
    ) {
        let mode = if encrypts { MessageSecurityMode::SignAndEncrypt } else { MessageSecurityMode::Sign };
        let now = start();
        let (mut client, mut server) = pair(SecurityPolicy::Basic256Sha256, mode, now);
        let (mut asked, mut heard, mut answered) = (0, 0, 0);
        for step in 0..5 {
            let mut there = Vec::new();
            if client.poll_transmit(&mut there) && turn == 2 * step {
                change(&what, &mut there);
            }
            server.handle_input(now, DateTime::NONE, &there);
            while let Some(event) = server.poll_event() {
                match event {
                    ServerChannelEvent::Opening { certificate, .. } => {
                        prop_assert_eq!(certificate, identities()[0].certificate.clone());
                        server.accept(now, DateTime::NONE);
                    }
                    ServerChannelEvent::Request(id, request) => {
                        let Request::Read(request) = *request else { panic!("{request:?}") };
                        prop_assert_eq!(request.nodes_to_read.len(), 3, "as it was sent");
                        heard += 1;
                        let mut answer = ReadResponse::default();
                        answer.response_header.request_handle = request.request_header.request_handle;
                        answer.results = vec![interlex_opcua::DataValue::default(); 3];
                        server.respond(id, &answer.into());
                    }
                    _ => {}
                }
            }
            let mut back = Vec::new();
            if server.poll_transmit(&mut back) && turn == 2 * step + 1 {
                change(&what, &mut back);
            }
            client.handle_input(now, &back);
            while let Some(event) = client.poll_event() {
                if let ClientChannelEvent::Response(_, response) = event {
                    let Response::Read(response) = *response else { panic!("{response:?}") };
                    prop_assert_eq!(response.results.len(), 3, "as it was sent");
                    answered += 1;
                }
            }
            asked += usize::from(client.request(read()).is_ok());
        }
        prop_assert!(heard <= asked && answered <= heard, "{} asked, {} heard, {} answered", asked, heard, answered);
    }
}

/// A server with an open channel without security, and frames of its client.
fn open() -> (ServerChannel, Instant) {
    let now = start();
    let (mut client, mut server) = pair(SecurityPolicy::None, MessageSecurityMode::None, now);
    for _ in 0..2 {
        let (mut there, mut back) = (Vec::new(), Vec::new());
        _ = client.poll_transmit(&mut there);
        server.handle_input(now, DateTime::NONE, &there);
        while let Some(event) = server.poll_event() {
            if matches!(event, ServerChannelEvent::Opening { .. }) {
                server.accept(now, DateTime::NONE);
            }
        }
        _ = server.poll_transmit(&mut back);
        client.handle_input(now, &back);
    }
    while server.poll_event().is_some() {}
    (server, now)
}

fn part(number: u32, request: u32, chunk: ChunkType, body: &[u8]) -> Vec<u8> {
    let sequence = SequenceHeader { sequence_number: number, request_id: request };
    let body = [&5_u32.to_bytes(), &1_u32.to_bytes(), &sequence.to_bytes(), body].concat();
    let mut frame = Vec::new();
    encode_frame(MessageType::Message, chunk, &body, &mut frame);
    frame
}

fn closed(server: &mut ServerChannel) -> Option<ChannelError> {
    std::iter::from_fn(|| server.poll_event()).find_map(|event| match event {
        ServerChannelEvent::Closed(error) => error,
        _ => None,
    })
}

#[test]
fn messages_without_end_end_the_channel_and_those_that_are_given_up_do_not() {
    let (mut server, now) = open();
    for number in 2..100 {
        server.handle_input(now, DateTime::NONE, &part(number, 7, ChunkType::Intermediate, &[0; 10_000]));
    }
    assert_eq!(closed(&mut server), Some(ChannelError::TooLarge("the size")));

    let (mut server, now) = open();
    for number in 2..1100 {
        server.handle_input(now, DateTime::NONE, &part(number, 7, ChunkType::Intermediate, &[0]));
    }
    assert_eq!(closed(&mut server), Some(ChannelError::TooLarge("the number of parts")));

    let (mut server, now) = open();
    server.handle_input(now, DateTime::NONE, &part(2, 7, ChunkType::Intermediate, &[0; 100]));
    let why = interlex_opcua::ErrorMessage { error: StatusCode::BAD_REQUEST_TOO_LARGE, reason: None };
    server.handle_input(now, DateTime::NONE, &part(3, 7, ChunkType::Abort, &why.to_bytes()));
    assert_eq!(server.poll_event(), Some(ServerChannelEvent::Aborted(7, why)));
    server.handle_input(now, DateTime::NONE, &part(4, 8, ChunkType::Final, &read().to_bytes()));
    assert!(matches!(server.poll_event(), Some(ServerChannelEvent::Request(8, _))));
    // Parts of two messages in turn.
    server.handle_input(now, DateTime::NONE, &part(5, 9, ChunkType::Intermediate, &[0]));
    server.handle_input(now, DateTime::NONE, &part(6, 10, ChunkType::Intermediate, &[0]));
    assert_eq!(closed(&mut server), Some(ChannelError::Mixed { got: 10, expected: 9 }));
}

#[test]
fn what_no_service_is_gets_a_fault_and_the_channel_goes_on() {
    let (mut server, now) = open();
    for (number, body, status) in [
        (2, vec![1, 0, 0x61, 0xEA], StatusCode::BAD_SERVICE_UNSUPPORTED),
        (3, vec![1, 0, 0x77, 0x02, 1], StatusCode::BAD_DECODING_ERROR),
        (4, Vec::new(), StatusCode::BAD_DECODING_ERROR),
    ] {
        server.handle_input(now, DateTime::NONE, &part(number, number, ChunkType::Final, &body));
        let mut out = Vec::new();
        assert!(server.poll_transmit(&mut out));
        let fault = Response::from_bytes(&out[24..], interlex_opcua::Limits::default()).unwrap();
        assert_eq!((fault.name(), fault.header().service_result), ("ServiceFault", status));
        assert_eq!(server.poll_event(), None);
    }
}

#[test]
fn silent_clients_are_not_waited_for() {
    let now = start();
    let (_, mut server) = pair(SecurityPolicy::None, MessageSecurityMode::None, now);
    assert_eq!(server.poll_timeout(), Some(now + Duration::from_secs(5)));
    server.handle_input(now, DateTime::NONE, b"HEL");
    server.handle_timeout(now + Duration::from_secs(5));
    assert!(matches!(closed(&mut server), Some(ChannelError::Timeout(_))));
    let mut out = Vec::new();
    assert!(server.poll_transmit(&mut out), "it says so");
    assert_eq!(server.poll_timeout(), None);
}
