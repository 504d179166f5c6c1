//! Frames made and checked with independent implementations.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_modbus::{
    Client, ClientConfig, Event, ExceptionCode, Frame, FrameDecoder, Framing, ReadData, ReadRequest, Refusal, Server,
    Units, encode_frame,
};
use serde_json::Value;

fn framed(framing: &str) -> Vec<Value> {
    let all = include_str!("vectors/modbus.jsonl").lines().map(|line| serde_json::from_str(line).unwrap());
    all.filter(|vector: &Value| vector["framing"] == framing).collect()
}

/// The vectors over TCP.
fn vectors() -> Vec<Value> {
    framed("tcp")
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

fn is_read(vector: &Value) -> bool {
    matches!(vector["meaning"]["function"].as_u64(), Some(1..=4))
}

#[test]
fn requests_decode_to_their_meaning_and_encode_to_the_same_bytes() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|v| v["direction"] == "request" && v.get("expect").is_none() && is_read(v)) {
        let (wire, meaning) = (bytes(&vector["hex"]), &vector["meaning"]);
        let mut decoder = FrameDecoder::default();
        decoder.push(&wire);
        let frame = decoder.next_frame().unwrap().unwrap();
        assert_eq!(frame.transaction, number(&meaning["transaction"]));
        assert_eq!(u16::from(frame.unit), number(&meaning["unit"]));
        let request = ReadRequest::decode(frame.pdu).unwrap();
        assert_eq!(u16::from(request.table().read_function()), number(&meaning["function"]));
        assert_eq!(request.address(), number(&meaning["address"]));
        assert_eq!(request.quantity(), number(&meaning["quantity"]));
        let mut out = Vec::new();
        encode_frame(Frame { pdu: &request.encode(), ..frame }, &mut out);
        assert_eq!(out, wire, "{}", name(vector));
        seen += 1;
    }
    assert_eq!(seen, 16);
}

#[test]
fn responses_decode_to_their_meaning_and_encode_to_the_same_bytes() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|v| v["direction"] == "response" && v.get("expect").is_none() && is_read(v)) {
        let (wire, meaning) = (bytes(&vector["hex"]), &vector["meaning"]);
        let mut decoder = FrameDecoder::default();
        decoder.push(&wire);
        let frame = decoder.next_frame().unwrap().unwrap();
        let request = match vector.get("request_pdu") {
            Some(pdu) => ReadRequest::decode(&bytes(pdu)).unwrap(),
            None if vector.get("request_hex").is_some() => {
                ReadRequest::decode(&bytes(&vector["request_hex"])[7..]).unwrap()
            }
            None => request_for(meaning),
        };
        let result = request.decode_response(frame.pdu);
        if let Some(code) = meaning.get("exception") {
            let error = result.unwrap_err().to_string();
            assert!(
                error.contains(meaning["exception_name"].as_str().unwrap_or_default()),
                "{}: {error}",
                name(vector)
            );
            assert!(error.starts_with(&format!("exception {:02X}", number(code))), "{}: {error}", name(vector));
        } else {
            let data = result.unwrap();
            match &data {
                ReadData::Bits(bits) => {
                    let wanted: Vec<bool> =
                        meaning["bits"].as_array().unwrap().iter().map(|bit| *bit == true || *bit == 1).collect();
                    assert_eq!(bits[..], wanted[..bits.len()], "{}", name(vector));
                }
                ReadData::Registers(registers) => {
                    let wanted: Vec<u16> = meaning["registers"].as_array().unwrap().iter().map(number).collect();
                    assert_eq!(*registers, wanted, "{}", name(vector));
                }
            }
            let (mut pdu, mut out) = (Vec::new(), Vec::new());
            request.encode_response(&data, &mut pdu);
            encode_frame(Frame { pdu: &pdu, ..frame }, &mut out);
            assert_eq!(out, wire, "{}", name(vector));
        }
        seen += 1;
    }
    assert!(seen > 60, "{seen}");
}

/// A request that the vector answers, where the vector does not name one.
fn request_for(meaning: &Value) -> ReadRequest {
    let function = number(&meaning["function"]).to_be_bytes()[1];
    let quantity = match (meaning.get("bits"), meaning.get("registers")) {
        (Some(bits), _) => bits.as_array().unwrap().len(),
        (None, Some(registers)) => registers.as_array().unwrap().len(),
        (None, None) => 1,
    };
    let [high, low] = u16::try_from(quantity).unwrap().to_be_bytes();
    ReadRequest::decode(&[function, 0, 0, high, low]).unwrap()
}

#[test]
fn answers_that_break_the_protocol_give_no_data() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|v| v["direction"] == "response" && v["expect"] == "error") {
        let asked = match (vector.get("request_pdu"), vector.get("request_hex")) {
            (Some(pdu), _) => bytes(pdu),
            (None, hex) => bytes(hex.unwrap())[7..].to_vec(),
        };
        let Ok(request) = ReadRequest::decode(&asked) else { continue };
        #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
        let start = std::time::Instant::now();
        let mut client = Client::new(ClientConfig::default());
        // The vectors answer transaction 1234 hexadecimal.
        for _ in 1..0x1234 {
            client.request(start, 1, request).unwrap();
            client.reset();
        }
        client.request(start, 1, request).unwrap();
        assert!(client.poll_transmit(start, &mut Vec::new()));
        client.handle_input(&bytes(&vector["hex"]));
        client.handle_timeout(start + ClientConfig::default().response_timeout);
        let event = client.poll_event().unwrap_or_else(|| panic!("{}", name(vector)));
        assert!(matches!(event, Event::Broken(_) | Event::Done(_, Err(_))), "{}: {event:?}", name(vector));
        assert_eq!(client.poll_event(), None);
        seen += 1;
    }
    assert!(seen >= 20, "{seen}");
}

struct Zeros;

impl Units for Zeros {
    fn read(&self, _unit: u8, request: ReadRequest) -> Result<ReadData, Refusal> {
        Ok(if request.table().is_bits() { ReadData::Bits(Vec::new()) } else { ReadData::Registers(Vec::new()) })
    }
}

#[test]
fn malformed_requests_are_answered_with_the_exception_of_the_standard() {
    let mut seen = 0;
    for vector in vectors().iter().filter(|v| v["direction"] == "request" && v["expect"] == "error") {
        let (wire, mut out) = (bytes(&vector["hex"]), Vec::new());
        // The functions that write or identify are not offered: each of them is an illegal function.
        let wanted = match wire[7] {
            1..=4 => vector["answer_exception"].as_u64().map(|code| ExceptionCode(code.try_into().unwrap())),
            _ => Some(ExceptionCode::ILLEGAL_FUNCTION),
        };
        let handled = Server::default().handle_input(&wire, &Zeros, &mut out);
        if let (Ok(()), Some(code), false) = (&handled, wanted, out.is_empty()) {
            assert_eq!(out[7..], [wire[7] | 0x80, code.0], "{}", name(vector));
            seen += 1;
        }
    }
    assert!(seen >= 10, "{seen}");
}

/// A client that waits for the answer to a request, over RTU.
fn asked(unit: u8, request: ReadRequest) -> (Client, Vec<u8>) {
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    let start = std::time::Instant::now();
    let mut config = ClientConfig::default();
    config.framing = Framing::Rtu;
    let (mut client, mut wire) = (Client::new(config), Vec::new());
    client.request(start, unit, request).unwrap();
    assert!(client.poll_transmit(start, &mut wire));
    (client, wire)
}

fn request_of(vector: &Value) -> ReadRequest {
    match (vector.get("request_pdu"), vector.get("request_hex")) {
        (Some(pdu), _) => ReadRequest::decode(&bytes(pdu)).unwrap(),
        (None, Some(hex)) => {
            let frame = bytes(hex);
            ReadRequest::decode(&frame[1..frame.len() - 2]).unwrap()
        }
        (None, None) => request_for(&vector["meaning"]),
    }
}

#[test]
fn rtu_requests_and_answers_are_those_of_independent_programs() {
    let mut seen = [0, 0];
    for vector in framed("rtu").iter().filter(|v| v.get("expect").is_none() && is_read(v)) {
        let (wire, meaning) = (bytes(&vector["hex"]), &vector["meaning"]);
        let unit = u8::try_from(number(&meaning["unit"])).unwrap();
        if vector["direction"] == "request" {
            let request = ReadRequest::decode(&wire[1..wire.len() - 2]).unwrap();
            assert_eq!(asked(unit, request).1, wire, "{}", name(vector));
            let mut out = Vec::new();
            Server::new(Framing::Rtu).handle_input(&wire, &Zeros, &mut out).unwrap();
            assert_eq!((out[0], out[1]), (wire[0], wire[1]), "{}: the server takes it", name(vector));
            seen[0] += 1;
            continue;
        }
        let (mut client, _) = asked(unit, request_of(vector));
        // One byte at a time, as a slow line gives them.
        wire.iter().for_each(|byte| client.handle_input(&[*byte]));
        let Some(Event::Done(_, result)) = client.poll_event() else { panic!("{}: no answer", name(vector)) };
        match (result, meaning.get("exception")) {
            (Ok(ReadData::Registers(registers)), None) => {
                let wanted: Vec<u16> = meaning["registers"].as_array().unwrap().iter().map(number).collect();
                assert_eq!(registers, wanted, "{}", name(vector));
            }
            (Ok(ReadData::Bits(bits)), None) => {
                let wanted: Vec<bool> = meaning["bits"].as_array().unwrap().iter().map(|bit| *bit == 1).collect();
                assert_eq!(bits[..], wanted[..bits.len()], "{}", name(vector));
            }
            (Err(error), Some(code)) => {
                assert!(
                    error.to_string().starts_with(&format!("exception {:02X}", number(code))),
                    "{}: {error}",
                    name(vector)
                );
            }
            (other, _) => panic!("{}: {other:?}", name(vector)),
        }
        seen[1] += 1;
    }
    assert!(seen[0] >= 10 && seen[1] >= 10, "{seen:?}");
}

#[test]
fn rtu_answers_that_break_the_protocol_give_no_data() {
    let mut seen = 0;
    for vector in framed("rtu").iter().filter(|v| v["direction"] == "response" && v["expect"] == "error") {
        let Ok(request) = std::panic::catch_unwind(|| request_of(vector)) else { continue };
        let (mut client, _) = asked(1, request);
        client.handle_input(&bytes(&vector["hex"]));
        if let Some(deadline) = client.poll_timeout() {
            client.handle_timeout(deadline);
        }
        let event = client.poll_event();
        assert!(matches!(event, Some(Event::Done(_, Err(_)))), "{}: {event:?}", name(vector));
        seen += 1;
    }
    assert!(seen >= 8, "{seen}");
}
