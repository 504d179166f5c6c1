//! Any bytes, cut anywhere, do no harm; and client and server agree.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_modbus::{
    Client, ClientConfig, Connection, ConnectionError, DiagnosticRequest, Event, ExceptionCode, FrameDecoder, Framing,
    IdentifyAccess, IdentifyRequest, ReadData, ReadRequest, ReadWriteRequest, Refusal, Request, RequestError, Response,
    ResponseError, Server, Table, Units, WriteRequest, Written, serve, serve_wire,
};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// Each register holds its own address, each third bit is set; unit 9 is silent, addresses from 1000 on do not exist.
struct Plain;

impl Units for Plain {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        if unit == 9 {
            return Err(Refusal::Silence);
        }
        match request {
            Request::Read(request) => read(*request).map(Response::Data),
            Request::ReadWrite(request) => read(request.read()).map(Response::Data),
            Request::Write(request) if request.address() >= 1000 => Err(ExceptionCode::ILLEGAL_DATA_ADDRESS.into()),
            Request::Write(_) => Ok(Response::Written),
            Request::Identify(request) => {
                let long = "x".repeat(200);
                let all = [(0, "Alderfen"), (1, "AW-1"), (2, "V1"), (0x80, &long), (0x81, &long)];
                Ok(request.pick(0x83, &all).map(Response::Identification)?)
            }
            Request::Diagnostic(request) => Ok(Response::Diagnostic(request.data)),
        }
    }
}

fn read(request: ReadRequest) -> Result<ReadData, Refusal> {
    let addresses = request.address()..=request.address() + (request.quantity() - 1);
    if *addresses.end() >= 1000 {
        return Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS));
    }
    Ok(match request.table().is_bits() {
        true => ReadData::Bits(addresses.map(|address| address % 3 == 0).collect()),
        false => ReadData::Registers(addresses.collect()),
    })
}

fn tables() -> impl Strategy<Value = Table> {
    prop::sample::select(vec![Table::Coil, Table::DiscreteInput, Table::HoldingRegister, Table::InputRegister])
}

/// Any request that the standard allows and [`Plain`] carries out.
fn requests() -> impl Strategy<Value = Request> {
    let write = |written| {
        let at = move |(address, written)| Request::from(WriteRequest::new(address, written).unwrap());
        (0_u16..1000, written).prop_map(at).boxed()
    };
    let mask = |(and, or)| Written::Mask { and, or };
    prop_oneof![
        (tables(), 0_u16..875, 1_u16..=125).prop_map(|(t, a, q)| ReadRequest::new(t, a, q).unwrap().into()),
        write(any::<bool>().prop_map(Written::Coil).boxed()),
        write(any::<u16>().prop_map(Written::Register).boxed()),
        write(prop::collection::vec(any::<bool>(), 1..=1968).prop_map(Written::Coils).boxed()),
        write(prop::collection::vec(any::<u16>(), 1..=123).prop_map(Written::Registers).boxed()),
        write((any::<u16>(), any::<u16>()).prop_map(mask).boxed()),
        (any::<u16>(), 0_u16..875, 1_u16..=125).prop_map(|(v, from, quantity)| {
            Request::ReadWrite(ReadWriteRequest::new(5, vec![v; 121], from, quantity).unwrap())
        }),
        Just(Request::Identify(IdentifyRequest { access: IdentifyAccess::Extended, object: 0 })),
        any::<u16>().prop_map(|data| Request::Diagnostic(DiagnosticRequest::echo(data))),
    ]
}

/// Whether less than the whole has a check that is right: over all of it that comes to nothing.
fn has_frame_inside(octets: &[u8]) -> bool {
    let step = |check: u16, octet: &u8| {
        let shift = |check: u16, _| if check & 1 == 1 { check >> 1 ^ 0xA001 } else { check >> 1 };
        (0..8).fold(check ^ u16::from(*octet), shift)
    };
    (0..octets.len()).any(|from| {
        let checks = octets[from..].iter().scan(0xFFFF, |check, octet| {
            *check = step(*check, octet);
            Some(*check)
        });
        let is_whole = |length: usize| length == octets.len();
        checks.enumerate().any(|(at, check)| check == 0 && at >= 3 && !is_whole(at + 1))
    })
}

fn framings() -> impl Strategy<Value = Framing> {
    prop::sample::select(vec![Framing::Tcp, Framing::Rtu, Framing::Ascii])
}

fn config(framing: Framing) -> ClientConfig {
    let mut config = ClientConfig::default();
    config.framing = framing;
    config
}

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

proptest! {
    #[test]
    fn client_and_server_agree_however_the_bytes_are_cut(request in requests(), framing in framings(), cut in 1_usize..300) {
        let (mut client, mut server) = (Client::new(config(framing)), Server::new(framing));
        let id = client.request(7, request.clone()).unwrap();
        let (mut asked, mut answered) = (Vec::new(), Vec::new());
        prop_assert!(client.poll_transmit(start(), &mut asked));
        // RTU tells frames by their check alone: where a part has one that is right by chance, nobody can know which is meant.
        prop_assume!(framing != Framing::Rtu || !has_frame_inside(&asked));
        for piece in asked.chunks(cut) {
            server.handle_input(piece, &Plain, &mut answered).unwrap();
        }
        for piece in answered.chunks(cut) {
            prop_assert_eq!(client.poll_event(), None);
            client.handle_input(start(), piece);
        }
        let wanted = Plain.answer(7, &request).unwrap();
        let event = client.poll_event();
        prop_assert!(matches!(&event, Some(Event::Done(done, Ok(got), _)) if *done == id && *got == wanted), "{:?}", event);
    }

    #[test]
    fn any_bytes_never_panic_and_never_pile_up(
        bytes in prop::collection::vec(any::<u8>(), 0..600), request in requests(), framing in framings(),
    ) {
        let mut client = Client::new(config(framing));
        client.request(1, request).unwrap();
        let _ = client.poll_transmit(start(), &mut Vec::new());
        client.handle_input(start(), &bytes);
        let mut server = Server::new(framing);
        let _ = server.handle_input(&bytes, &Plain, &mut Vec::new());
        server.handle_silence(&Plain, &mut Vec::new());
        prop_assert!(!server.is_inside_frame());
    }

    #[test]
    fn any_pdu_decodes_to_what_encodes_to_it_again_or_to_an_error(
        request in requests(), at in 0_usize..30, byte: u8, answer in prop::collection::vec(any::<u8>(), 0..40),
    ) {
        let mut pdu = Vec::new();
        request.encode(&mut pdu);
        prop_assert_eq!(Request::decode(&pdu), Ok(request.clone()));
        let at = at % pdu.len();
        pdu[at] = byte;
        if let Ok(other) = Request::decode(&pdu) {
            let mut again = Vec::new();
            other.encode(&mut again);
            // The unused bits of the last byte of coils may say anything.
            prop_assert!(again == pdu || pdu[0] == 0x0F, "{:02x?} {:02x?}", again, pdu);
        }
        let _ = Request::decode(&answer);
        let _ = request.decode_response(&answer);
    }

    #[test]
    fn a_mutated_answer_is_data_of_the_asked_size_or_an_error(at in 0_usize..15, byte: u8) {
        let request = ReadRequest::new(Table::InputRegister, 4, 3).unwrap();
        let mut answer = vec![0, 1, 0, 0, 0, 9, 1, 4, 6, 0, 4, 0, 5, 0, 6];
        answer[at] = byte;
        let mut client = Client::new(ClientConfig::default());
        client.request(1, request).unwrap();
        prop_assert!(client.poll_transmit(start(), &mut Vec::new()));
        client.handle_input(start(), &answer);
        if let Some(Event::Done(_, Ok(data), _)) = client.poll_event() {
            prop_assert!(matches!(data, Response::Data(ReadData::Registers(registers)) if registers.len() == 3));
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

fn holding(address: u16) -> ReadRequest {
    ReadRequest::new(Table::HoldingRegister, address, 1).unwrap()
}

#[test]
fn a_late_answer_is_dropped_and_the_next_request_gets_its_own() {
    let (start, timeout) = (start(), ClientConfig::default().response_timeout);
    let mut client = Client::new(ClientConfig::default());
    let (mut first, mut late) = (Vec::new(), Vec::new());
    let id = client.request(1, holding(1)).unwrap();
    assert!(client.request(1, holding(2)).is_err(), "one at a time");
    assert!(client.poll_transmit(start, &mut first));
    client.handle_timeout(start + timeout - Duration::from_millis(1));
    assert_eq!(client.poll_event(), None, "not due yet");
    client.handle_timeout(start + timeout);
    assert_eq!(client.poll_event(), Some(Event::Done(id, Err(RequestError::Timeout(timeout)), timeout)));
    Server::default().handle_input(&first, &Plain, &mut late).unwrap();
    let id = client.request(1, holding(2)).unwrap();
    let mut second = Vec::new();
    assert!(client.poll_transmit(start, &mut second));
    client.handle_input(start, &late);
    assert_eq!(client.poll_event(), None);
    let mut answer = Vec::new();
    Server::default().handle_input(&second, &Plain, &mut answer).unwrap();
    client.handle_input(start, &answer);
    let data = Response::Data(ReadData::Registers(vec![2]));
    assert_eq!(client.poll_event(), Some(Event::Done(id, Ok(data), Duration::ZERO)));
    assert_eq!(client.stats().unmatched, 1);
}

#[test]
fn several_requests_wait_at_once_and_each_gets_its_own_answer_whatever_their_order() {
    let mut config = ClientConfig::default();
    (config.in_flight, config.trace) = (3, true);
    let (mut client, start) = (Client::new(config), start());
    let ids = [1, 2, 3].map(|address| client.request(1, holding(address)).unwrap());
    assert!(client.request(1, holding(4)).is_err(), "not more than the device takes");
    let answers = ids.map(|_| {
        let (mut asked, mut answer) = (Vec::new(), Vec::new());
        assert!(client.poll_transmit(start, &mut asked));
        Server::default().handle_input(&asked, &Plain, &mut answer).unwrap();
        answer
    });
    let later = start + Duration::from_millis(7);
    client.handle_input(later, &answers[2]);
    client.handle_input(later, &answers[0]);
    let done = [(2, 3), (0, 1)].map(|(at, value)| {
        let data = Response::Data(ReadData::Registers(vec![value]));
        Event::Done(ids[at], Ok(data), Duration::from_millis(7))
    });
    assert_eq!([client.poll_event(), client.poll_event()], done.map(Some));
    assert!(client.request(1, holding(4)).is_ok(), "two are free again");
    client.handle_timeout(start + config.response_timeout);
    assert!(matches!(client.poll_event(), Some(Event::Done(id, Err(RequestError::Timeout(_)), _)) if id == ids[1]));
    client.handle_input(later, &answers[1]);
    let fates: Vec<_> = std::iter::from_fn(|| client.poll_frame()).map(|frame| format!("{:?}", frame.fate)).collect();
    assert_eq!(fates, ["Request", "Request", "Request", "Answer(7ms)", "Answer(7ms)", "NoAnswer(1s)", "Unmatched"]);
}

#[test]
fn a_line_is_left_silent_before_each_request_and_nobody_answers_a_broadcast() {
    let mut config = config(Framing::Rtu);
    config.silence = Framing::Rtu.silence(9600);
    assert_eq!(config.silence, Duration::from_nanos(4_010_416));
    let (mut client, start) = (Client::new(config), start());
    client.handle_input(start, &[0xFF]);
    let write = WriteRequest::new(3, Written::Register(7)).unwrap();
    let id = client.request(0, write).unwrap();
    assert!(!client.poll_transmit(start, &mut Vec::new()), "somebody was just heard");
    let quiet = client.poll_timeout().unwrap();
    assert_eq!(quiet, start + config.silence);
    client.handle_timeout(quiet);
    let mut wire = Vec::new();
    assert!(client.poll_transmit(quiet, &mut wire));
    let mut answer = Vec::new();
    Server::new(Framing::Rtu).handle_input(&wire, &Plain, &mut answer).unwrap();
    assert!(answer.is_empty());
    assert_eq!(client.poll_timeout(), Some(quiet + config.turnaround));
    client.handle_timeout(quiet + config.turnaround);
    assert_eq!(client.poll_event(), Some(Event::Done(id, Ok(Response::Written), Duration::ZERO)));
    assert_eq!(client.stats().timeouts, 0);
}

#[test]
fn a_device_tells_who_it_is_in_as_many_answers_as_it_takes() {
    let (mut object, mut ids) = (0, Vec::new());
    loop {
        let request = Request::Identify(IdentifyRequest { access: IdentifyAccess::Extended, object });
        let mut pdu = Vec::new();
        assert!(request.encode_response(&Plain.answer(1, &request).unwrap(), &mut pdu));
        assert!(pdu.len() <= interlex_modbus::MAX_PDU);
        let Ok(Response::Identification(part)) = request.decode_response(&pdu) else { panic!("{pdu:02x?}") };
        ids.extend(part.objects.iter().map(|(id, _)| *id));
        match part.next {
            Some(next) => object = next,
            None => break,
        }
    }
    assert_eq!(ids, [0, 1, 2, 0x80, 0x81]);
}

#[tokio::test]
async fn a_client_reads_from_a_server_over_a_real_socket() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let stop = CancellationToken::new();
    let server = tokio::spawn(serve(listener, Arc::new(Plain), stop.clone()));
    let mut config = ClientConfig::default();
    (config.response_timeout, config.in_flight) = (Duration::from_millis(50), 4);
    let mut client = Connection::tcp("127.0.0.1", port, Duration::from_secs(5), config).await.unwrap();
    let read = |address, quantity| ReadRequest::new(Table::InputRegister, address, quantity).unwrap();
    let data = |registers: &[u16]| Response::Data(ReadData::Registers(registers.to_vec()));
    assert_eq!(client.call(1, read(40, 3)).await.unwrap(), data(&[40, 41, 42]));
    let refused = client.call(1, read(999, 2)).await.unwrap_err();
    assert!(matches!(
        refused,
        ConnectionError::Request(RequestError::Response(ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS)))
    ));
    let silent = client.call(9, read(0, 1)).await.unwrap_err();
    assert!(matches!(silent, ConnectionError::Request(RequestError::Timeout(_))));
    let ids: Vec<_> = (0..4).map(|address| client.submit(1, read(address, 1)).unwrap()).collect();
    let mut answered = Vec::new();
    for _ in &ids {
        let done = client.next().await.unwrap();
        answered.push((done.id, done.outcome.unwrap()));
    }
    answered.sort_by_key(|(id, _)| *id);
    assert_eq!(answered, ids.into_iter().zip((0..4).map(|n| data(&[n]))).collect::<Vec<_>>());
    stop.cancel();
    server.await.unwrap().unwrap();
    assert!(matches!(client.call(1, read(7, 1)).await, Err(ConnectionError::Connection(_))));
    let gone = Connection::tcp("127.0.0.1", port, Duration::from_secs(5), config).await;
    assert_eq!(gone.unwrap_err().kind(), std::io::ErrorKind::ConnectionRefused);
}

#[tokio::test]
async fn rtu_and_ascii_go_over_a_pair_of_terminals() {
    for framing in [Framing::Rtu, Framing::Ascii] {
        let (ours, theirs) = serial2_tokio::SerialPort::pair().unwrap();
        let stop = CancellationToken::new();
        let silence = framing.silence(19_200);
        let server = tokio::spawn(serve_wire(theirs, framing, silence, Arc::new(Plain), stop.clone()));
        let mut config = config(framing);
        (config.silence, config.response_timeout) = (silence, Duration::from_secs(5));
        let mut client = Connection::over(ours, config);
        let read = ReadRequest::new(Table::InputRegister, 10, 125).unwrap();
        let data = Response::Data(ReadData::Registers((10..135).collect()));
        assert_eq!(client.call(17, read).await.unwrap(), data, "{framing:?}");
        let write = WriteRequest::new(1000, Written::Coil(true)).unwrap();
        assert!(client.call(17, write).await.is_err());
        assert_eq!(client.call(17, read).await.unwrap(), data, "{framing:?}");
        stop.cancel();
        server.await.unwrap().unwrap();
    }
}
