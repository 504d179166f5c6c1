//! Over a line where nothing pairs an answer with its request, no answer becomes the value of something else.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_modbus::{
    Client, ClientConfig, Event, Fate, FrameError, Framing, ReadData, ReadRequest, Refusal, Request, RequestError,
    RequestId, Response, Server, Table, Units, WriteRequest, Written, encode_frame,
};
use proptest::prelude::*;
use std::collections::{BTreeMap, HashMap};
use std::time::{Duration, Instant};

/// Each register holds its own address, and its unit in the thousands.
struct Plain;

impl Units for Plain {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        Ok(match request {
            Request::Read(read) => {
                let value = |address| 1000 * u16::from(unit) + address;
                let registers = (read.address()..read.address() + read.quantity()).map(value);
                Response::Data(ReadData::Registers(registers.collect()))
            }
            _ => Response::Written,
        })
    }
}

const TIMEOUT: Duration = Duration::from_secs(1);

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

fn client(framing: Framing) -> Client {
    let mut config = ClientConfig::default();
    (config.framing, config.trace, config.silence) = (framing, true, Duration::from_millis(5));
    Client::new(config)
}

fn answer_to(framing: Framing, request: &[u8]) -> Vec<u8> {
    let mut answer = Vec::new();
    Server::new(framing).handle_input(request, &Plain, &mut answer).unwrap();
    answer
}

fn registers(address: u16, count: u16) -> ReadRequest {
    ReadRequest::new(Table::HoldingRegister, address, count).unwrap()
}

/// What becomes of one answer on its way.
#[derive(Debug, Clone)]
enum Way {
    /// It takes so many milliseconds, and comes so often.
    Delayed(u64, usize),
    Lost,
    /// A bit of it is wrong when it comes.
    Damaged(u64),
}

fn ways() -> impl Strategy<Value = Way> {
    prop_oneof![
        4 => (0_u64..900).prop_map(|delay| Way::Delayed(delay, 1)),
        4 => (0_u64..5000).prop_map(|delay| Way::Delayed(delay, 1)),
        1 => (0_u64..5000).prop_map(|delay| Way::Delayed(delay, 2)),
        1 => Just(Way::Lost),
        1 => (0_u64..3000).prop_map(Way::Damaged),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_order_of_delays_losses_and_repeats_gives_a_point_the_value_of_another(
        ways in prop::collection::vec(ways(), 20..60),
        asked in prop::collection::vec((1_u8..3, 0_u16..4, 1_u16..3, any::<bool>()), 60),
        framing in prop::sample::select(vec![Framing::Rtu, Framing::Ascii]),
        cut in 1_usize..20,
    ) {
        let (mut client, mut now) = (client(framing), start());
        let mut on_the_way: BTreeMap<(Instant, usize), Vec<u8>> = BTreeMap::new();
        let mut waiting: HashMap<RequestId, (u8, ReadRequest)> = HashMap::new();
        let (mut ways, mut asked, mut number) = (ways.into_iter(), asked.into_iter().peekable(), 0);
        let end = now + Duration::from_secs(600);
        while now < end && (asked.peek().is_some() || !waiting.is_empty()) {
            if let Some((unit, address, count, _)) = asked.peek().copied() {
                let request = registers(address, count);
                if let Ok(id) = client.request(unit, request) {
                    waiting.insert(id, (unit, request));
                    asked.next();
                }
            }
            let mut wire = Vec::new();
            while client.poll_transmit(now, &mut wire) {
                let mut answer = answer_to(framing, &wire);
                match ways.next().unwrap_or(Way::Delayed(20, 1)) {
                    Way::Lost => {}
                    Way::Delayed(delay, times) => (0..times).for_each(|_| {
                        number += 1;
                        on_the_way.insert((now + Duration::from_millis(delay), number), answer.clone());
                    }),
                    Way::Damaged(delay) => {
                        number += 1;
                        answer[3] ^= 1;
                        on_the_way.insert((now + Duration::from_millis(delay), number), answer);
                    }
                }
                wire.clear();
            }
            while let Some(event) = client.poll_event() {
                let Event::Done(id, outcome, _) = event else { panic!("{event:?}") };
                let (unit, request) = waiting.remove(&id).unwrap();
                if let Ok(Response::Data(data)) = outcome {
                    let Ok(Response::Data(wanted)) = Plain.answer(unit, &request.into()) else { panic!() };
                    prop_assert_eq!(data, wanted);
                }
            }
            // Whatever comes next: an answer, a deadline, or a look a moment later.
            let arrives = on_the_way.keys().next().map(|(at, _)| *at);
            let next = arrives.into_iter().chain(client.poll_timeout()).min().unwrap_or(now + TIMEOUT);
            now = next.max(now);
            let ready: Vec<_> = on_the_way.extract_if(.., |(at, _), _| *at <= now).flat_map(|(_, bytes)| bytes).collect();
            for piece in ready.chunks(cut.max(ready.len() / 3)) {
                client.handle_input(now, piece);
            }
            client.handle_timeout(now);
        }
        prop_assert!(waiting.is_empty() && asked.peek().is_none(), "everything came to an end");
    }
}

fn send(client: &mut Client, now: Instant, unit: u8, request: impl Into<Request>) -> Option<(RequestId, Vec<u8>)> {
    let id = client.request(unit, request).unwrap();
    let mut wire = Vec::new();
    client.poll_transmit(now, &mut wire).then_some((id, wire))
}

fn outcome(client: &mut Client) -> Result<Response, RequestError> {
    let Some(Event::Done(_, outcome, _)) = client.poll_event() else { panic!() };
    outcome
}

fn fates(client: &mut Client) -> Vec<Fate> {
    std::iter::from_fn(|| client.poll_frame()).map(|frame| frame.fate).filter(|fate| *fate != Fate::Request).collect()
}

#[test]
fn what_a_late_answer_fits_waits_and_other_units_and_functions_go_on() {
    for framing in [Framing::Rtu, Framing::Ascii] {
        let (mut client, start) = (client(framing), start());
        let (_, first) = send(&mut client, start, 1, registers(1, 1)).unwrap();
        client.handle_timeout(start + TIMEOUT);
        assert_eq!(outcome(&mut client), Err(RequestError::Timeout(TIMEOUT)));
        let now = start + TIMEOUT;
        assert_eq!(client.held_until(now, 1, 3), Some(now + 5 * TIMEOUT));
        assert_eq!((client.held_until(now, 1, 4), client.held_until(now, 2, 3)), (None, None));
        // Another unit is asked while the first one's answer comes.
        let (_, other) = send(&mut client, now, 2, registers(2, 1)).unwrap();
        let late = now + TIMEOUT / 5;
        client.handle_input(late, &answer_to(framing, &first));
        client.handle_input(late, &answer_to(framing, &other));
        assert_eq!(outcome(&mut client), Ok(Response::Data(ReadData::Registers(vec![2002]))));
        assert!(fates(&mut client).contains(&Fate::Late(TIMEOUT + TIMEOUT / 5)));
        assert_eq!((client.stats().late, client.stats().unmatched), (1, 0));
        // It came: only a copy of it could still follow.
        assert_eq!(client.held_until(late, 1, 3), Some(late + TIMEOUT));
        client.handle_timeout(late + TIMEOUT / 2);
        assert!(send(&mut client, late + TIMEOUT / 2, 1, registers(3, 1)).is_none(), "held back");
        assert_eq!(client.poll_timeout(), Some(late + TIMEOUT));
        client.handle_timeout(late + TIMEOUT);
        assert!(client.poll_transmit(late + TIMEOUT, &mut Vec::new()));
    }
}

#[test]
fn what_is_owed_when_a_connection_ends_is_owed_on_the_next_one() {
    let (mut before, now) = (client(Framing::Rtu), start());
    send(&mut before, now, 1, registers(1, 1)).unwrap();
    let mut after = client(Framing::Rtu).with_owed(before.take_owed());
    assert!(send(&mut after, now, 1, registers(2, 1)).is_none());
    let mut tcp = client(Framing::Tcp);
    send(&mut tcp, now, 1, registers(1, 1)).unwrap();
    tcp.handle_timeout(now + TIMEOUT);
    assert!(send(&mut tcp, now + TIMEOUT, 1, registers(2, 1)).is_some(), "transactions have numbers");
}

#[test]
fn a_stray_byte_behind_an_answer_does_no_harm_and_is_counted() {
    let (mut client, now) = (client(Framing::Rtu), start());
    let (_, wire) = send(&mut client, now, 1, registers(0, 10)).unwrap();
    let answer = [&answer_to(Framing::Rtu, &wire)[..], &[0x00]].concat();
    client.handle_input(now, &answer);
    assert!(outcome(&mut client).is_ok());
    assert!(send(&mut client, now + TIMEOUT, 1, registers(0, 10)).is_some());
    assert_eq!(client.stats().noise_bytes, 1);
}

#[test]
fn a_wrong_check_is_told_as_such_and_a_wrong_unit_by_its_name() {
    for (framing, check) in [(Framing::Rtu, "CRC"), (Framing::Ascii, "LRC")] {
        let (mut client, now) = (client(framing), start());
        let (_, wire) = send(&mut client, now, 1, registers(0, 2)).unwrap();
        let mut answer = answer_to(framing, &wire);
        answer[7] ^= 1;
        client.handle_input(now, &answer);
        client.handle_timeout(now + TIMEOUT);
        assert_eq!(outcome(&mut client), Err(RequestError::Garbled(check)));
        assert_eq!((client.stats().garbled, client.stats().timeouts), (1, 0));
        let now = now + 2 * TIMEOUT;
        client.handle_timeout(now);
        let (_, wire) = send(&mut client, now, 1, registers(0, 2)).unwrap();
        let mut as_unit_7 = Vec::new();
        framing.encode(interlex_modbus::Frame { transaction: 0, unit: 7, pdu: &[3, 4, 0, 1, 0, 2] }, &mut as_unit_7);
        client.handle_input(now, &as_unit_7);
        client.handle_timeout(now + TIMEOUT);
        let told = outcome(&mut client).unwrap_err();
        assert_eq!(told.to_string(), "unit 7 answers where unit 1 was asked");
        assert_eq!((client.stats().wrong_unit, wire.is_empty()), (1, false));
    }
}

#[test]
fn two_answers_at_once_are_both_not_believed() {
    let (mut client, now) = (client(Framing::Rtu), start());
    let write = WriteRequest::new(3, Written::Register(7)).unwrap();
    let (_, wire) = send(&mut client, now, 1, write).unwrap();
    client.handle_input(now, &answer_to(Framing::Rtu, &wire).repeat(2));
    assert_eq!(outcome(&mut client), Err(RequestError::Several(2)));
    assert_eq!(fates(&mut client), [Fate::Several, Fate::Several]);
    assert!(send(&mut client, now + TIMEOUT, 1, write_other()).is_none(), "a third may follow");
}

fn write_other() -> WriteRequest {
    WriteRequest::new(4, Written::Register(7)).unwrap()
}

#[test]
fn a_stream_of_nobodys_answers_ends_the_connection_after_a_bounded_amount() {
    let mut foreign = Vec::new();
    encode_frame(interlex_modbus::Frame { transaction: 999, unit: 1, pdu: &[3, 2, 0, 1] }, &mut foreign);
    for (framing, flood) in [
        (Framing::Tcp, foreign.repeat(10_000)),
        (Framing::Rtu, vec![0; 100_000]),
        (Framing::Ascii, vec![b':'; 100_000]),
    ] {
        let (mut client, now) = (client(framing), start());
        send(&mut client, now, 1, registers(0, 1)).unwrap();
        let taken = flood.chunks(1000).position(|piece| {
            client.handle_input(now, piece);
            matches!(client.poll_event(), Some(Event::Broken(FrameError::Flood(_))))
        });
        assert!(taken.is_some_and(|pieces| pieces < 70), "{framing:?}: {taken:?}");
        assert!(std::iter::from_fn(|| client.poll_frame()).count() <= 1000);
    }
}
