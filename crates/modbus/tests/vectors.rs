//! Frames made and checked with independent implementations.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_modbus::{
    Client, ClientConfig, Event, ExceptionCode, Frame, Framing, ReadData, ReadRequest, ReadWriteRequest, Refusal,
    Request, Response, Server, Table, Units, WriteRequest, Written,
};
use serde_json::Value;
use std::time::{Duration, Instant};

fn vectors() -> Vec<Value> {
    let lines = include_str!("vectors/modbus.jsonl").lines();
    lines.map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn framing(vector: &Value) -> Framing {
    match vector["framing"].as_str().unwrap() {
        "rtu" => Framing::Rtu,
        "ascii" => Framing::Ascii,
        _ => Framing::Tcp,
    }
}

fn bytes(hex: &Value) -> Vec<u8> {
    hex::decode(hex.as_str().unwrap()).unwrap()
}

fn number(value: &Value) -> u16 {
    value.as_u64().unwrap().try_into().unwrap()
}

fn name(vector: &Value) -> &str {
    vector["name"].as_str().unwrap()
}

fn is(vector: &Value, direction: &str, expect: Option<&str>) -> bool {
    vector["direction"] == direction && vector["expect"].as_str() == expect
}

/// Unit and PDU of a frame that must be whole.
fn unframed(vector: &Value, wire: &[u8]) -> (u8, Vec<u8>) {
    framing(vector).decode(wire).unwrap_or_else(|| panic!("{}: no frame", name(vector)))
}

fn framed(vector: &Value, unit: u8, pdu: &[u8]) -> Vec<u8> {
    let transaction = vector["meaning"]["transaction"].as_u64().unwrap_or_default().try_into().unwrap();
    let mut wire = Vec::new();
    framing(vector).encode(Frame { transaction, unit, pdu }, &mut wire);
    wire
}

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

fn bits(value: &Value) -> Vec<bool> {
    value.as_array().unwrap().iter().map(|bit| *bit == true || *bit == 1).collect()
}

fn registers(value: &Value) -> Vec<u16> {
    value.as_array().unwrap().iter().map(number).collect()
}

/// The request that a vector means.
fn meant(m: &Value) -> Request {
    let address = || number(&m["address"]);
    let write = |written| Request::from(WriteRequest::new(address(), written).unwrap());
    let read = |table| Request::from(ReadRequest::new(table, address(), number(&m["quantity"])).unwrap());
    match m["function"].as_u64().unwrap() {
        1 => read(Table::Coil),
        2 => read(Table::DiscreteInput),
        3 => read(Table::HoldingRegister),
        4 => read(Table::InputRegister),
        5 => write(Written::Coil(m["value"] == true)),
        6 => write(Written::Register(number(&m["value"]))),
        15 => write(Written::Coils(bits(&m["bits"]))),
        16 => write(Written::Registers(registers(&m["registers"]))),
        22 => write(Written::Mask { and: number(&m["and_mask"]), or: number(&m["or_mask"]) }),
        23 => {
            let (to, from) = (number(&m["write_address"]), number(&m["read_address"]));
            let written = registers(&m["registers"]);
            Request::ReadWrite(ReadWriteRequest::new(to, written, from, number(&m["read_quantity"])).unwrap())
        }
        8 => {
            let [s1, s0] = number(&m["sub_function"]).to_be_bytes();
            let [d1, d0] = number(&m["data"]).to_be_bytes();
            Request::decode(&[8, s1, s0, d1, d0]).unwrap()
        }
        43 => {
            let field = |key: &str| number(&m[key]).to_be_bytes()[1];
            Request::decode(&[43, field("mei_type"), field("read_code"), field("object_id")]).unwrap()
        }
        other => panic!("function {other}"),
    }
}

#[test]
fn requests_say_what_they_mean_in_every_framing() {
    let mut seen = [0, 0, 0];
    for vector in vectors().iter().filter(|vector| is(vector, "request", None)) {
        let (wire, meaning) = (bytes(&vector["hex"]), &vector["meaning"]);
        let (unit, pdu) = unframed(vector, &wire);
        assert_eq!(u16::from(unit), number(&meaning["unit"]), "{}", name(vector));
        let request = Request::decode(&pdu).unwrap_or_else(|error| panic!("{}: {error}", name(vector)));
        assert_eq!(request, meant(meaning), "{}", name(vector));
        let mut again = Vec::new();
        request.encode(&mut again);
        assert_eq!(framed(vector, unit, &again), wire, "{}", name(vector));
        seen[framing(vector) as usize] += 1;
    }
    assert_eq!(seen, [39, 34, 9]);
}

/// The request that an answer belongs to; made up from the answer where the vector does not name one.
fn asked(vector: &Value) -> Request {
    if let Some(pdu) = vector.get("request_pdu") {
        // One vector answers a request that cannot be asked: any other will do to refuse it.
        let any = || Request::from(ReadRequest::new(Table::HoldingRegister, 0, 125).unwrap());
        return Request::decode(&bytes(pdu)).unwrap_or_else(|_| any());
    }
    if let Some(hex) = vector.get("request_hex") {
        return Request::decode(&unframed(vector, &bytes(hex)).1).unwrap();
    }
    let m = &vector["meaning"];
    let many = |key: &str| m.get(key).map(|list| list.as_array().unwrap().len()).unwrap_or(1);
    let read = |table, key: &str| ReadRequest::new(table, 0, many(key).try_into().unwrap()).unwrap().into();
    match m["function"].as_u64().unwrap() {
        1 => read(Table::Coil, "bits"),
        2 => read(Table::DiscreteInput, "bits"),
        3 => read(Table::HoldingRegister, "registers"),
        4 => read(Table::InputRegister, "registers"),
        function if m.get("exception").is_some() => match function {
            8 => Request::decode(&[8, 0, 0, 0, 0]).unwrap(),
            43 => Request::decode(&[43, 14, 1, 0]).unwrap(),
            23 => Request::ReadWrite(ReadWriteRequest::new(0, vec![0], 0, 1).unwrap()),
            5 => WriteRequest::new(0, Written::Coil(true)).unwrap().into(),
            6 => WriteRequest::new(0, Written::Register(0)).unwrap().into(),
            15 => WriteRequest::new(0, Written::Coils(vec![true])).unwrap().into(),
            16 => WriteRequest::new(0, Written::Registers(vec![0])).unwrap().into(),
            _ => WriteRequest::new(0, Written::Mask { and: 0, or: 0 }).unwrap().into(),
        },
        15 => {
            let coils = Written::Coils(vec![false; number(&m["quantity"]).into()]);
            WriteRequest::new(number(&m["address"]), coils).unwrap().into()
        }
        16 => {
            let zeros = Written::Registers(vec![0; number(&m["quantity"]).into()]);
            WriteRequest::new(number(&m["address"]), zeros).unwrap().into()
        }
        43 => {
            // What follows starts after the objects that came before.
            let first = number(&m["objects"][0]["id"]).to_be_bytes()[1];
            Request::decode(&[43, 14, number(&m["read_code"]).to_be_bytes()[1], first]).unwrap()
        }
        8 if number(&m["sub_function"]) != 0 => {
            Request::decode(&[8, 0, number(&m["sub_function"]).to_be_bytes()[1], 0, 0]).unwrap()
        }
        _ => meant(m),
    }
}

/// A client that waits for the answer to a request, with the transaction that the vector has.
fn waiting(vector: &Value, unit: u8, request: Request, transaction: u16) -> Client {
    let mut config = ClientConfig::default();
    config.framing = framing(vector);
    let mut client = Client::new(config);
    for _ in 1..transaction {
        client.request(unit, request.clone()).unwrap();
        client.reset();
    }
    client.request(unit, request).unwrap();
    assert!(client.poll_transmit(start(), &mut Vec::new()));
    client
}

#[test]
fn answers_say_what_they_mean_in_every_framing() {
    let mut seen = [0, 0, 0];
    for vector in vectors().iter().filter(|v| is(v, "response", None) && v["meaning"]["function"].is_u64()) {
        let (wire, m) = (bytes(&vector["hex"]), &vector["meaning"]);
        let (unit, pdu) = unframed(vector, &wire);
        let request = asked(vector);
        let transaction = m["transaction"].as_u64().unwrap_or(1).try_into().unwrap();
        let mut client = waiting(vector, unit, request.clone(), transaction);
        // One byte at a time, as a slow line gives them.
        wire.iter().for_each(|byte| client.handle_input(start(), &[*byte]));
        let Some(Event::Done(_, result, _)) = client.poll_event() else { panic!("{}: no answer", name(vector)) };
        seen[framing(vector) as usize] += 1;
        if let Some(code) = m.get("exception") {
            let error = result.unwrap_err().to_string();
            let words = format!("exception {:02X}, {}", number(code), m["exception_name"].as_str().unwrap_or_default());
            assert!(error.starts_with(&words), "{}: {error}", name(vector));
            continue;
        }
        let response = result.unwrap_or_else(|error| panic!("{}: {error}", name(vector)));
        match &response {
            Response::Data(ReadData::Bits(got)) => {
                assert_eq!(got[..], bits(&m["bits"])[..got.len()], "{}", name(vector))
            }
            Response::Data(ReadData::Registers(got)) => {
                assert_eq!(*got, registers(&m["registers"]), "{}", name(vector))
            }
            Response::Diagnostic(data) => assert_eq!(*data, number(&m["data"]), "{}", name(vector)),
            Response::Identification(answer) => {
                let said: Vec<_> = answer.objects.iter().map(|(id, text)| (u16::from(*id), text.clone())).collect();
                let wanted = m["objects"].as_array().unwrap().iter();
                let wanted: Vec<_> = wanted.map(|o| (number(&o["id"]), o["text"].as_str().unwrap().into())).collect();
                assert_eq!(said, wanted, "{}", name(vector));
                assert_eq!(answer.next.is_some(), m["more_follows"] == true, "{}", name(vector));
            }
            Response::Written => {}
        }
        let mut again = Vec::new();
        assert!(request.encode_response(&response, &mut again));
        assert_eq!(again, pdu, "{}", name(vector));
    }
    assert!(seen[0] > 85 && seen[1] > 35 && seen[2] >= 10, "{seen:?}");
}

#[test]
fn answers_that_break_the_protocol_give_no_data() {
    let mut seen = [0, 0, 0];
    for vector in vectors().iter().filter(|vector| is(vector, "response", Some("error"))) {
        // The vectors over TCP answer transaction 1234 hexadecimal.
        let mut client = waiting(vector, 1, asked(vector), 0x1234);
        client.handle_input(start(), &bytes(&vector["hex"]));
        if let Some(deadline) = client.poll_timeout() {
            client.handle_timeout(deadline + Duration::from_millis(1));
        }
        let event = client.poll_event().unwrap_or_else(|| panic!("{}", name(vector)));
        if name(vector).contains("extra-byte-after-frame") {
            // Frames are found by their length: a byte behind one is noise of the line, and the frame stands.
            assert!(matches!(event, Event::Done(_, Ok(_), _)), "{event:?}");
            continue;
        }
        assert!(matches!(event, Event::Broken(_) | Event::Done(_, Err(_), _)), "{}: {event:?}", name(vector));
        assert_eq!(client.poll_event(), None, "{}", name(vector));
        seen[framing(vector) as usize] += 1;
    }
    assert_eq!(seen, [28, 10, 6]);
}

#[test]
fn a_good_frame_is_found_behind_a_broken_one() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|vector| is(vector, "response", Some("resync"))) {
        let mut client = waiting(vector, 1, asked(vector), 1);
        client.handle_input(start(), &bytes(&vector["hex"]));
        let Some(Event::Done(_, Ok(Response::Data(ReadData::Registers(got))), _)) = client.poll_event() else {
            panic!("{}", name(vector))
        };
        assert_eq!(got, registers(&vector["meaning"]["registers"]));
        seen += 1;
    }
    assert_eq!(seen, 1);
}

/// Answers everything with nothing.
struct Zeros;

impl Units for Zeros {
    fn answer(&self, _unit: u8, request: &Request) -> Result<Response, Refusal> {
        match request {
            Request::Read(read) if read.table().is_bits() => Ok(Response::Data(ReadData::Bits(Vec::new()))),
            Request::Read(_) | Request::ReadWrite(_) => Ok(Response::Data(ReadData::Registers(Vec::new()))),
            Request::Write(_) => Ok(Response::Written),
            Request::Diagnostic(_) | Request::Identify(_) => Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
        }
    }
}

#[test]
fn malformed_requests_are_answered_with_the_exception_of_the_standard() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|vector| is(vector, "request", Some("error"))) {
        let (wire, mut out) = (bytes(&vector["hex"]), Vec::new());
        let handled = Server::default().handle_input(&wire, &Zeros, &mut out);
        let Some(code) = vector["answer_exception"].as_u64() else {
            assert!(handled.is_err() || out[7] & 0x80 != 0, "{}", name(vector));
            continue;
        };
        assert_eq!(out[7..], [wire[7] | 0x80, code.try_into().unwrap()], "{}", name(vector));
        seen += 1;
    }
    assert_eq!(seen, 13);
}
