//! A client and a device speak with each other, over a way that does what it likes.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod rig;

use interlex_bacnet::{
    AbortReason, Answer, Apdu, Audience, Bvll, BvllResult, ConfirmedService, Content, CovNotification, CovTerms,
    Destination, Device, DeviceConfig, Error, Failure, ForeignDevice, IAm, LogDatum, LogRecord, MacAddress, MaxApdu,
    Node, NodeConfig, NodeEvent, Npdu, NpduContent, Object, ObjectIdentifier, ObjectType, Peer, Priority,
    PropertyIdentifier, Range, ReadProperty, ReadPropertyAck, ReadRange, ReadRangeAck, RejectReason, Segmentation,
    Station, SubscribeCov, Target, Terms, TrendLog, UnconfirmedService, Value, Via, WhoIs, WriteProperty,
};
use proptest::prelude::*;
use rig::{CLIENT, DEVICE, Fate, Rig, begin, config, is_broadcast, object, temperature};
use std::time::Duration;

const PRESENT_VALUE: PropertyIdentifier = PropertyIdentifier::PRESENT_VALUE;

fn device(objects: u32) -> Device {
    (1..=objects).fold(Device::new(config()), |device, instance| device.with(temperature(instance, 20.5)))
}

fn own() -> ObjectIdentifier {
    ObjectIdentifier::device(1001).unwrap()
}

fn object_list(rig: &mut Rig) -> Result<usize, Failure> {
    let mut data = Vec::new();
    ReadProperty { object: own(), reference: PropertyIdentifier::OBJECT_LIST.into() }.encode(&mut data);
    let told = rig.ask(ConfirmedService::READ_PROPERTY, data)?;
    Ok(ReadPropertyAck::decode(&told).unwrap().value.values().unwrap().len())
}

#[test]
fn who_is_asked_for_says_who_it_is() {
    let mut rig = Rig::new(device(1));
    rig.who_is(WhoIs { range: Some((1, 1000)) });
    assert!(rig.told(UnconfirmedService::I_AM).is_empty());
    rig.who_is(WhoIs::one(1001));
    let told = IAm::decode(&rig.told(UnconfirmedService::I_AM)[0]).unwrap();
    assert_eq!((told.device, told.max_apdu, told.vendor), (own(), 1476, 999));
}

#[test]
fn a_long_answer_comes_in_segments() {
    let mut rig = Rig::new(device(3000));
    assert_eq!(object_list(&mut rig), Ok(3001));
    let segments = rig.sent.iter().filter(|(to_device, datagram)| !to_device && datagram.len() > 1400).count();
    assert_eq!(segments, 10, "five octets an object");
    let acknowledged = rig.sent.iter().filter(|(to_device, _)| *to_device).count() - 1;
    assert_eq!(acknowledged, 2, "the first one, and the last");
}

#[test]
fn a_long_request_goes_in_segments() {
    let mut rig = Rig::new(device(900));
    let objects = (1..=900).map(|instance| object(ObjectType::ANALOG_INPUT, instance));
    let told = rig.read_multiple(objects, &[PRESENT_VALUE]).unwrap();
    assert_eq!(told.0.len(), 900);
    assert!(told.0.iter().all(|result| result.results[0].1 == Ok(Content::of(&[20.5_f32.into()]))));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn long_messages_arrive_whole_or_not_at_all(seed: u64, losses in 0_u8..60) {
        let mut rng = fastrand::Rng::with_seed(seed);
        let mut rig = Rig::new(device(900)).with_fate(move |_| match rng.u8(..) {
            number if number < losses => Fate::IsLost,
            number if number < losses + 20 => Fate::IsDoubled,
            number if number < losses + 40 => Fate::Overtakes,
            _ => Fate::Arrives,
        });
        match object_list(&mut rig) {
            Ok(count) => prop_assert_eq!(count, 901),
            Err(error) => prop_assert!(losses > 0 && error == Failure::Timeout, "{}", error),
        }
        let objects = (1..=900).map(|instance| object(ObjectType::ANALOG_INPUT, instance));
        match rig.read_multiple(objects, &[PRESENT_VALUE]) {
            Ok(told) => prop_assert_eq!(told.0.len(), 900),
            Err(error) => prop_assert!(losses > 0 && error == Failure::Timeout, "{}", error),
        }
    }
}

#[test]
fn the_last_segment_is_acknowledged_again_when_it_comes_again() {
    let mut rig = Rig::new(device(900));
    let mut acknowledged = 0;
    rig.set_fate(move |datagram| {
        let is_acknowledgment = datagram.len() == 10 && datagram[6] >> 4 == 4;
        acknowledged += u32::from(is_acknowledgment);
        if is_acknowledgment && acknowledged == 2 { Fate::IsLost } else { Fate::Arrives }
    });
    assert_eq!(object_list(&mut rig), Ok(901));
    while rig.wait() {}
    let is_acknowledgment = |(to_device, datagram): &&(bool, Vec<u8>)| *to_device && datagram[6] >> 4 == 4;
    assert!(rig.sent.iter().filter(is_acknowledgment).count() >= 3);
    assert!(rig.node.poll_timeout().is_none(), "the device waits for nothing any more");
}

#[test]
fn what_is_longer_than_either_side_takes_is_said_to_be_so() {
    let mut rig = Rig::new(Device::new(DeviceConfig { segmentation: Segmentation::None, ..config() }));
    (1..=900).for_each(|instance| {
        rig.device = std::mem::replace(&mut rig.device, Device::new(config())).with(temperature(instance, 1.0))
    });
    let reason = AbortReason::SEGMENTATION_NOT_SUPPORTED;
    assert_eq!(object_list(&mut rig), Err(Failure::Abort { by_peer: true, reason }));
    let terms = Terms { max_apdu: MaxApdu::LEAST, segmentation: Segmentation::None, ..Terms::default() };
    let sent = rig.client.request(rig.now, DEVICE.into(), ConfirmedService::READ_PROPERTY_MULTIPLE, vec![0; 47], terms);
    assert_eq!(sent.map_err(|error| error.to_string()), Err("the request is longer than the device takes".to_owned()));
}

#[test]
fn a_request_is_sent_again_and_given_up_in_the_end() {
    let mut rig = Rig::new(device(1)).with_fate(|_| Fate::IsLost);
    let begun = rig.now;
    assert_eq!(rig.read(object(ObjectType::ANALOG_INPUT, 1), PRESENT_VALUE), Err(Failure::Timeout));
    assert_eq!((rig.sent.len(), rig.now.duration_since(begun)), (4, Duration::from_secs(12)));
}

#[test]
fn an_answer_to_a_request_before_is_not_taken_for_another() {
    let mut rig = Rig::new(device(2));
    let first = object(ObjectType::ANALOG_INPUT, 1);
    let mut kept = None;
    // The answer is held back on its way.
    let held = std::rc::Rc::new(std::cell::RefCell::new(None));
    let hold = std::rc::Rc::clone(&held);
    rig.set_fate(move |datagram| {
        if datagram.get(6) == Some(&0x30) {
            *hold.borrow_mut() = Some(datagram.to_vec());
            return Fate::IsLost;
        }
        Fate::Arrives
    });
    assert_eq!(rig.read(first, PRESENT_VALUE), Err(Failure::Timeout));
    std::mem::swap(&mut kept, &mut held.borrow_mut());
    rig.set_fate(|_| Fate::IsLost);
    for _ in 0..254 {
        let mut data = Vec::new();
        ReadProperty { object: object(ObjectType::ANALOG_INPUT, 2), reference: PRESENT_VALUE.into() }.encode(&mut data);
        rig.request(ConfirmedService::READ_PROPERTY, data);
    }
    rig.client.handle_input(rig.now, Via::Unicast, DEVICE, &kept.unwrap());
    assert!(rig.client.poll_event().is_none(), "it comes too late for what it answers, and answers nothing else");
}

#[test]
fn only_who_was_asked_can_answer() {
    let mut rig = Rig::new(device(1)).with_fate(|_| Fate::IsLost);
    let mut data = Vec::new();
    ReadProperty { object: object(ObjectType::ANALOG_INPUT, 1), reference: PRESENT_VALUE.into() }.encode(&mut data);
    rig.request(ConfirmedService::READ_PROPERTY, data);
    rig.carry();
    let asked = rig.sent[0].1.clone();
    let invoke_id = asked[8];
    let answer = |service: u8| vec![0x81, 0x0A, 0, 9, 1, 0, 0x20, invoke_id, service];
    rig.client.handle_input(rig.now, Via::Unicast, CLIENT, &answer(12));
    rig.client.handle_input(rig.now, Via::Unicast, DEVICE, &answer(15));
    assert!(rig.client.poll_event().is_none());
    rig.client.handle_input(rig.now, Via::Unicast, DEVICE, &answer(12));
    assert!(matches!(rig.client.poll_event(), Some(NodeEvent::Answered { outcome: Ok(_), .. })));
}

fn subscribe(rig: &mut Rig, instance: u32, is_confirmed: bool, lifetime: u32) -> Result<Vec<u8>, Failure> {
    let mut data = Vec::new();
    let terms = Some(CovTerms { is_confirmed, lifetime });
    let object = object(ObjectType::ANALOG_INPUT, instance);
    SubscribeCov { process: 7, object, terms, property: None }.encode(&mut data);
    rig.ask(ConfirmedService::SUBSCRIBE_COV, data)
}

fn set(rig: &mut Rig, instance: u32, value: f32) {
    rig.device.object_mut(object(ObjectType::ANALOG_INPUT, instance)).unwrap().set(PRESENT_VALUE, value);
    let time = rig.time();
    rig.device.tell_changes(time, &mut rig.node);
    rig.carry();
}

fn values(told: &[Vec<u8>]) -> Vec<String> {
    let value = |data: &Vec<u8>| CovNotification::decode(data).unwrap().value(PRESENT_VALUE).unwrap().to_string();
    told.iter().map(value).collect()
}

#[test]
fn changes_are_told_to_who_subscribed_until_that_is_over() {
    let mut rig = Rig::new(device(2));
    subscribe(&mut rig, 1, false, 60).unwrap();
    set(&mut rig, 1, 20.7);
    set(&mut rig, 1, 21.0);
    set(&mut rig, 2, 90.0);
    rig.pass(Duration::from_secs(59));
    set(&mut rig, 1, 22.0);
    rig.pass(Duration::from_secs(2));
    set(&mut rig, 1, 23.0);
    let told = rig.told(UnconfirmedService::COV_NOTIFICATION);
    assert_eq!(values(&told), ["20.5", "21", "22"], "what is the case, and each move of half a degree");
    let last = CovNotification::decode(told.last().unwrap()).unwrap();
    assert_eq!((last.process, last.device, last.time_remaining), (7, own(), 1));
}

#[test]
fn a_confirmed_change_comes_again_until_it_is_acknowledged_and_is_told_once() {
    let mut rig = Rig::new(device(1));
    subscribe(&mut rig, 1, true, 0).unwrap();
    let mut told = Vec::new();
    let mut answer = |rig: &mut Rig| {
        let asked: Vec<_> = std::mem::take(&mut rig.events);
        for event in asked {
            if let NodeEvent::Asked { id, data, .. } = event {
                told.push(data);
                rig.client.answer(rig.now, &id, &Answer::Simple);
            }
        }
        rig.carry();
    };
    answer(&mut rig);
    // The acknowledgment is lost twice.
    let mut lost = 0;
    rig.set_fate(move |datagram| {
        let is_acknowledgment = datagram.len() == 9 && datagram[6] == 0x20;
        lost += u32::from(is_acknowledgment);
        if is_acknowledgment && lost < 3 { Fate::IsLost } else { Fate::Arrives }
    });
    set(&mut rig, 1, 30.0);
    for _ in 0..4 {
        answer(&mut rig);
        rig.wait();
    }
    set(&mut rig, 1, 40.0);
    answer(&mut rig);
    assert_eq!(values(&told), ["20.5", "30", "40"]);
}

#[test]
fn many_changes_of_one_moment_are_all_taken() {
    let mut rig = Rig::new(device(200));
    (1..=200).for_each(|instance| assert!(subscribe(&mut rig, instance, true, 0).is_ok()));
    let is_told = |event: &&NodeEvent| matches!(event, NodeEvent::Asked { .. });
    assert_eq!(rig.events.iter().filter(is_told).count(), 200, "before any of them is acknowledged");
}

#[test]
fn outputs_follow_the_highest_priority_and_go_back() {
    let output = object(ObjectType::ANALOG_OUTPUT, 1);
    let valve = Object::valued(output, "valve", 10.0_f32).with(PropertyIdentifier::MAX_PRES_VALUE, 100.0_f32);
    let mut rig = Rig::new(device(1).with(valve));
    let write = |rig: &mut Rig, value: Value, priority: u8| {
        let mut data = Vec::new();
        let value = Content::of(&[value]);
        let priority = Priority::new(priority);
        WriteProperty { object: output, reference: PRESENT_VALUE.into(), value, priority }.encode(&mut data);
        rig.ask(ConfirmedService::WRITE_PROPERTY, data).map(|_| rig.read(output, PRESENT_VALUE).unwrap())
    };
    assert_eq!(write(&mut rig, 42.0_f32.into(), 12), Ok(42.0_f32.into()));
    assert_eq!(write(&mut rig, 60.0_f32.into(), 8), Ok(60.0_f32.into()));
    assert_eq!(write(&mut rig, 50.0_f32.into(), 12), Ok(60.0_f32.into()), "8 goes before 12");
    assert_eq!(write(&mut rig, Value::Null, 8), Ok(50.0_f32.into()));
    assert_eq!(write(&mut rig, Value::Null, 12), Ok(10.0_f32.into()));
    let refused = |outcome: Result<Value, Failure>| match outcome {
        Err(Failure::Error { error, .. }) => error,
        other => panic!("{other:?}"),
    };
    assert_eq!(refused(write(&mut rig, 1.0_f32.into(), 6)), Error::WRITE_ACCESS_DENIED);
    assert_eq!(refused(write(&mut rig, 101.0_f32.into(), 8)), Error::VALUE_OUT_OF_RANGE);
    assert_eq!(refused(write(&mut rig, Value::Unsigned(1), 8)), Error::INVALID_DATA_TYPE);
}

#[test]
fn a_log_is_read_from_a_moment_on() {
    let log = object(ObjectType::TREND_LOG, 1);
    let records = TrendLog::new(object(ObjectType::ANALOG_INPUT, 1), Duration::from_secs(60), 100);
    let mut rig = Rig::new(device(1).with(Object::new(log, "history").with_log(records)));
    for minute in 0..10_u8 {
        set(&mut rig, 1, f32::from(minute));
        rig.pass(Duration::from_millis(1));
        rig.pass(Duration::from_secs(60));
    }
    let at = rig.device.local(rig.time()).unwrap();
    let since = interlex_bacnet::DateTime::of_local_millis(at.local_millis().unwrap() - 200_000).unwrap();
    let mut data = Vec::new();
    let reference = PropertyIdentifier::LOG_BUFFER.into();
    ReadRange { object: log, reference, range: Some(Range::Time(since, 100)) }.encode(&mut data);
    let told = ReadRangeAck::decode(&rig.ask(ConfirmedService::READ_RANGE, data).unwrap()).unwrap();
    let records = LogRecord::decode_all(&told.items).unwrap();
    let values: Vec<_> = records.iter().map(|record| &record.datum).collect();
    assert!(values.len() >= 3 && values.iter().all(|datum| matches!(datum, LogDatum::Value(Value::Real(_)))));
    assert!(told.has_last && told.first_sequence.is_some());
}

#[test]
fn what_nobody_knows_is_rejected_and_a_device_is_not_quieted() {
    let mut rig = Rig::new(device(1));
    let unknown = rig.ask(ConfirmedService(7), vec![]);
    assert_eq!(unknown, Err(Failure::Reject(RejectReason::UNRECOGNIZED_SERVICE)));
    assert_eq!(
        rig.ask(ConfirmedService::READ_PROPERTY, vec![]),
        Err(Failure::Reject(RejectReason::MISSING_REQUIRED_PARAMETER))
    );
    let quiet = rig.ask(ConfirmedService::DEVICE_COMMUNICATION_CONTROL, vec![0x19, 1]);
    assert!(matches!(quiet, Err(Failure::Error { error: Error::PASSWORD_FAILURE, .. })), "{quiet:?}");
    assert!(rig.read(own(), PropertyIdentifier::OBJECT_NAME).is_ok());
}

/// The next datagram that a node sends, decoded as far as where it goes.
fn next(node: &mut Node) -> Option<(Target, Vec<u8>)> {
    node.poll_transmit()
}

#[test]
fn a_foreign_device_registers_renews_and_registers_anew() {
    let now = begin();
    let foreign = Some(ForeignDevice { bbmd: DEVICE, time_to_live: 60 });
    let mut node = Node::new(NodeConfig { foreign, ..NodeConfig::default() }, fastrand::Rng::with_seed(1), now);
    let register = Some((Target::Address(DEVICE), vec![0x81, 5, 0, 6, 0, 60]));
    node.handle_timeout(now);
    assert_eq!((next(&mut node), node.is_registered()), (register.clone(), false));
    let result = |result: BvllResult| {
        let mut datagram = Vec::new();
        Bvll::Result(result).encode(&mut datagram);
        datagram
    };
    node.handle_input(now, Via::Unicast, CLIENT, &result(BvllResult::SUCCESS));
    assert!(!node.is_registered(), "somebody else says so");
    node.handle_input(now, Via::Unicast, DEVICE, &result(BvllResult::SUCCESS));
    assert_eq!((node.is_registered(), node.poll_event()), (true, Some(NodeEvent::Registered(true))));
    node.tell(Audience::Global, UnconfirmedService::WHO_IS, &[]);
    let (to, datagram) = next(&mut node).unwrap();
    assert_eq!(
        (to, matches!(Bvll::decode(&datagram), Ok(Bvll::DistributeBroadcast(_)))),
        (Target::Address(DEVICE), true)
    );
    let half = now + Duration::from_secs(30);
    node.handle_timeout(half);
    assert_eq!(next(&mut node), register, "renewed at half");
    node.handle_input(half, Via::Unicast, DEVICE, &result(BvllResult::DISTRIBUTE_NAK));
    assert!(!node.is_registered());
    node.handle_timeout(half);
    assert_eq!(next(&mut node), register, "it was forgotten there");
    // What is forwarded counts from there only, and is of whoever is inside.
    let origin = "10.9.9.9:47808".parse().unwrap();
    let mut forwarded = Vec::new();
    Bvll::Forwarded { origin, npdu: &[1, 0, 0x10, 8] }.encode(&mut forwarded);
    while node.poll_event().is_some() {}
    node.handle_input(half, Via::Unicast, CLIENT, &forwarded);
    assert!(node.poll_event().is_none());
    node.handle_input(half, Via::Unicast, DEVICE, &forwarded);
    assert!(matches!(node.poll_event(), Some(NodeEvent::Told { from, .. }) if from == Peer::from(origin)));
}

#[test]
fn no_broadcasts_are_managed_here() {
    let mut node = Node::new(NodeConfig::default(), fastrand::Rng::with_seed(1), begin());
    for (asked, code) in [(vec![0x81, 5, 0, 6, 0, 60], 0x30), (vec![0x81, 2, 0, 4], 0x20), (vec![0x81, 6, 0, 4], 0x40)]
    {
        node.handle_input(begin(), Via::Unicast, DEVICE, &asked);
        assert_eq!(next(&mut node), Some((Target::Address(DEVICE), vec![0x81, 0, 0, 6, 0, code])));
        node.handle_input(begin(), Via::Broadcast, DEVICE, &asked);
        assert!(next(&mut node).is_none(), "nothing is said to what all are asked");
    }
}

#[test]
fn a_device_behind_a_router_is_spoken_to_by_its_network() {
    let station = Station { network: 5, mac: MacAddress::new(&[12]).unwrap() };
    let now = begin();
    let mut client = Node::new(NodeConfig::default(), fastrand::Rng::with_seed(1), now);
    let peer = Peer { address: DEVICE, station: Some(station) };
    let id = client.request(now, peer, ConfirmedService::READ_PROPERTY, vec![1], Terms::default()).unwrap();
    let (to, datagram) = next(&mut client).unwrap();
    assert!(!is_broadcast(to));
    let Ok(Bvll::Unicast(npdu)) = Bvll::decode(&datagram) else { panic!("{datagram:02x?}") };
    let npdu = Npdu::decode(npdu).unwrap();
    assert_eq!(npdu.destination, Some(Destination::Station(station)));
    let NpduContent::Apdu(apdu) = npdu.content else { panic!("{npdu:?}") };
    let Ok(Apdu::ConfirmedRequest { header, .. }) = Apdu::decode(apdu) else { panic!("{apdu:02x?}") };
    let mut answer = |source: Option<Station>| {
        let (mut apdu, mut npdu, mut datagram) = (Vec::new(), Vec::new(), Vec::new());
        Apdu::SimpleAck { invoke_id: header.invoke_id, service: ConfirmedService::READ_PROPERTY }.encode(&mut apdu);
        Npdu { source, ..Npdu::plain(&apdu, false) }.encode(&mut npdu);
        Bvll::Unicast(&npdu).encode(&mut datagram);
        client.handle_input(now, Via::Unicast, DEVICE, &datagram);
        client.poll_event()
    };
    let neighbour = Station { network: 5, mac: MacAddress::new(&[13]).unwrap() };
    assert_eq!((answer(None), answer(Some(neighbour))), (None, None), "the router and its neighbour did not answer");
    assert!(matches!(answer(Some(station)), Some(NodeEvent::Answered { id: answered, .. }) if answered == id));
}
