//! Any bytes, cut anywhere, do no harm; and client and server agree.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_modbus::{
    Client, ClientConfig, Event, ExceptionCode, FrameDecoder, ReadData, ReadRequest, Refusal, RequestError,
    ResponseError, Server, Table, TcpClient, TcpClientError, Units, serve,
};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// Each register holds its own address, each third bit is set; unit 9 is silent, addresses from 1000 on do not exist.
struct Plain;

impl Units for Plain {
    fn read(&self, unit: u8, request: ReadRequest) -> Result<ReadData, Refusal> {
        if unit == 9 {
            return Err(Refusal::Silence);
        }
        let addresses = request.address()..=request.address() + (request.quantity() - 1);
        if *addresses.end() >= 1000 {
            return Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS));
        }
        Ok(match request.table().is_bits() {
            true => ReadData::Bits(addresses.map(|address| address % 3 == 0).collect()),
            false => ReadData::Registers(addresses.collect()),
        })
    }
}

fn tables() -> impl Strategy<Value = Table> {
    prop::sample::select(vec![Table::Coil, Table::DiscreteInput, Table::HoldingRegister, Table::InputRegister])
}

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

proptest! {
    #[test]
    fn client_and_server_agree_however_the_bytes_are_cut(
        table in tables(), address in 0_u16..875, quantity in 1_u16..=125, cut in 1_usize..300,
    ) {
        let request = ReadRequest::new(table, address, quantity).unwrap();
        let (mut client, mut server) = (Client::new(ClientConfig::default()), Server::default());
        let id = client.request(start(), 7, request).unwrap();
        let (mut asked, mut answered) = (Vec::new(), Vec::new());
        prop_assert!(client.poll_transmit(start(), &mut asked));
        for piece in asked.chunks(cut) {
            server.handle_input(piece, &Plain, &mut answered).unwrap();
        }
        for piece in answered.chunks(cut) {
            prop_assert_eq!(client.poll_event(), None);
            client.handle_input(piece);
        }
        let wanted = Plain.read(7, request).unwrap();
        prop_assert_eq!(client.poll_event(), Some(Event::Done(id, Ok(wanted))));
    }

    #[test]
    fn any_bytes_never_panic_and_never_pile_up(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
        let mut client = Client::new(ClientConfig::default());
        client.request(start(), 1, ReadRequest::new(Table::Coil, 0, 1).unwrap()).unwrap();
        let _ = client.poll_transmit(start(), &mut Vec::new());
        client.handle_input(&bytes);
        let _ = Server::default().handle_input(&bytes, &Plain, &mut Vec::new());
        let _ = ReadRequest::decode(&bytes);
        let _ = ReadRequest::new(Table::InputRegister, 0, 3).unwrap().decode_response(&bytes);
    }

    #[test]
    fn a_mutated_answer_is_data_of_the_asked_size_or_an_error(at in 0_usize..15, byte: u8) {
        let request = ReadRequest::new(Table::InputRegister, 4, 3).unwrap();
        let mut answer = vec![0, 1, 0, 0, 0, 9, 1, 4, 6, 0, 4, 0, 5, 0, 6];
        answer[at] = byte;
        let mut client = Client::new(ClientConfig::default());
        client.request(start(), 1, request).unwrap();
        prop_assert!(client.poll_transmit(start(), &mut Vec::new()));
        client.handle_input(&answer);
        if let Some(Event::Done(_, Ok(data))) = client.poll_event() {
            prop_assert!(matches!(data, ReadData::Registers(registers) if registers.len() == 3));
        }
    }

    #[test]
    fn a_stream_gives_the_same_frames_however_it_is_cut(
        pdus in prop::collection::vec(prop::collection::vec(any::<u8>(), 1..=253), 0..8), cut in 1_usize..400,
    ) {
        let mut wire = Vec::new();
        for pdu in &pdus {
            interlex_modbus::encode_frame(interlex_modbus::Frame { transaction: 5, unit: 6, pdu }, &mut wire);
        }
        let (mut decoder, mut got) = (FrameDecoder::default(), Vec::new());
        for piece in wire.chunks(cut) {
            decoder.push(piece);
            while let Some(frame) = decoder.next_frame().unwrap() {
                got.push(frame.pdu.to_vec());
            }
        }
        prop_assert_eq!(got, pdus);
    }
}

#[test]
fn a_late_answer_is_dropped_and_the_next_request_gets_its_own() {
    let (start, timeout) = (start(), ClientConfig::default().response_timeout);
    let mut client = Client::new(ClientConfig::default());
    let (one, two) = (
        ReadRequest::new(Table::HoldingRegister, 1, 1).unwrap(),
        ReadRequest::new(Table::HoldingRegister, 2, 1).unwrap(),
    );
    let (mut first, mut late) = (Vec::new(), Vec::new());
    let id = client.request(start, 1, one).unwrap();
    assert!(client.request(start, 1, two).is_err(), "one at a time");
    assert!(client.poll_transmit(start, &mut first));
    client.handle_timeout(start + timeout - Duration::from_millis(1));
    assert_eq!(client.poll_event(), None, "not due yet");
    client.handle_timeout(start + timeout);
    assert_eq!(client.poll_event(), Some(Event::Done(id, Err(RequestError::Timeout(timeout)))));
    Server::default().handle_input(&first, &Plain, &mut late).unwrap();
    let id = client.request(start, 1, two).unwrap();
    let mut second = Vec::new();
    assert!(client.poll_transmit(start, &mut second));
    client.handle_input(&late);
    assert_eq!(client.poll_event(), None);
    let mut answer = Vec::new();
    Server::default().handle_input(&second, &Plain, &mut answer).unwrap();
    client.handle_input(&answer);
    assert_eq!(client.poll_event(), Some(Event::Done(id, Ok(ReadData::Registers(vec![2])))));
    assert_eq!(client.stats().unmatched, 1);
}

#[tokio::test]
async fn a_client_reads_from_a_server_over_a_real_socket() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let stop = CancellationToken::new();
    let server = tokio::spawn(serve(listener, Arc::new(Plain), stop.clone()));
    let mut config = ClientConfig::default();
    config.response_timeout = Duration::from_millis(50);
    let mut client = TcpClient::connect("127.0.0.1", port, Duration::from_secs(5), config).await.unwrap();
    let read = |address, quantity| ReadRequest::new(Table::InputRegister, address, quantity).unwrap();
    assert_eq!(client.read(1, read(40, 3)).await.unwrap(), ReadData::Registers(vec![40, 41, 42]));
    let refused = client.read(1, read(999, 2)).await.unwrap_err();
    assert!(matches!(
        refused,
        TcpClientError::Request(RequestError::Response(ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS)))
    ));
    let silent = client.read(9, read(0, 1)).await.unwrap_err();
    assert!(matches!(silent, TcpClientError::Request(RequestError::Timeout(_))));
    assert_eq!(client.read(1, read(7, 1)).await.unwrap(), ReadData::Registers(vec![7]));
    stop.cancel();
    server.await.unwrap().unwrap();
    assert!(matches!(client.read(1, read(7, 1)).await, Err(TcpClientError::Connection(_))));
    let gone = TcpClient::connect("127.0.0.1", port, Duration::from_secs(5), config).await;
    assert_eq!(gone.unwrap_err().kind(), std::io::ErrorKind::ConnectionRefused);
}
