//! Octets of anybody.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_bacnet::{
    Apdu, Bvll, Content, CovNotification, Date, DeviceCommunicationControl, Error, EventNotification,
    GetEventInformation, GetEventInformationAck, IAm, IHave, LogRecord, Npdu, ObjectIdentifier, ReadProperty,
    ReadPropertyAck, ReadPropertyMultiple, ReadPropertyMultipleAck, ReadRange, ReadRangeAck, SubscribeCov, Time,
    TimeSynchronization, Value, WhoHas, WhoIs, WriteProperty, WritePropertyMultiple, describe,
};
use proptest::prelude::*;

fn values() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Boolean),
        any::<u64>().prop_map(Value::Unsigned),
        any::<i64>().prop_map(Value::Signed),
        any::<f32>().prop_filter("equal to itself", |number| !number.is_nan()).prop_map(Value::Real),
        any::<f64>().prop_filter("equal to itself", |number| !number.is_nan()).prop_map(Value::Double),
        prop::collection::vec(any::<u8>(), 0..300).prop_map(Value::OctetString),
        ".{0,80}".prop_map(Value::CharacterString),
        prop::collection::vec(any::<bool>(), 0..40)
            .prop_map(|bits| Value::BitString(interlex_bacnet::BitString::of(&bits))),
        any::<u32>().prop_map(Value::Enumerated),
        any::<[u8; 4]>().prop_map(|octets| Value::Date(Date::from_octets(octets))),
        any::<[u8; 4]>().prop_map(|octets| Value::Time(Time::from_octets(octets))),
        any::<u32>().prop_map(|bits| Value::ObjectIdentifier(ObjectIdentifier::from_bits(bits))),
    ]
}

/// Every decoder, on the same octets.
fn decode_all(octets: &[u8]) {
    _ = describe(octets);
    _ = Bvll::decode(octets);
    _ = Npdu::decode(octets);
    _ = Apdu::decode(octets);
    _ = Value::decode(octets);
    _ = Error::decode(octets);
    _ = (WhoIs::decode(octets), IAm::decode(octets), WhoHas::decode(octets), IHave::decode(octets));
    _ = (ReadProperty::decode(octets), ReadPropertyAck::decode(octets));
    _ = (ReadPropertyMultiple::decode(octets), ReadPropertyMultipleAck::decode(octets));
    _ = (WriteProperty::decode(octets), WritePropertyMultiple::decode(octets));
    _ = WritePropertyMultiple::decode_failed(octets);
    _ = (SubscribeCov::decode(octets), SubscribeCov::decode_property(octets), CovNotification::decode(octets));
    _ = (ReadRange::decode(octets), ReadRangeAck::decode(octets));
    _ = (TimeSynchronization::decode(octets), DeviceCommunicationControl::decode(octets));
    _ = (
        EventNotification::decode(octets),
        GetEventInformation::decode(octets),
        GetEventInformationAck::decode(octets),
    );
    if let Ok(content) = Content::decode(octets) {
        assert!(content.elements().all(|_| true) && content.octets() == octets);
        _ = (content.values(), content.one(), content.to_string(), LogRecord::decode_all(&content));
    }
}

proptest! {
    #[test]
    fn a_value_is_itself_again(value in values()) {
        let mut octets = Vec::new();
        value.encode(&mut octets);
        prop_assert_eq!(Value::decode(&octets).unwrap(), value);
        for cut in 0..octets.len() {
            prop_assert!(Value::decode(&octets[..cut]).is_err(), "cut at {}", cut);
        }
        octets.push(0);
        prop_assert!(Value::decode(&octets).is_err(), "something follows");
    }

    #[test]
    fn any_octets_are_read_or_refused(octets in prop::collection::vec(any::<u8>(), 0..600)) {
        decode_all(&octets);
    }

    #[test]
    fn vectors_with_one_octet_changed_are_read_or_refused(which: usize, at: usize, octet: u8) {
        let lines: Vec<_> = include_str!("vectors/bacnet.jsonl").lines().collect();
        let vector: serde_json::Value = serde_json::from_str(lines[which % lines.len()]).unwrap();
        let mut octets = hex::decode(vector["hex"].as_str().unwrap()).unwrap();
        if !octets.is_empty() {
            let at = at % octets.len();
            octets[at] = octet;
        }
        // Every part of it, as what stands inside what stands around it.
        (0..octets.len().min(16)).for_each(|from| decode_all(&octets[from..]));
    }
}

#[test]
fn what_is_nested_without_end_is_refused_at_once() {
    for octets in [vec![0x3E; 100_000], [vec![0x3E; 40], vec![0x3F; 40]].concat()] {
        assert!(Content::decode(&octets).unwrap_err().to_string().contains("nested"));
    }
    assert!(Content::decode(&[vec![0x3E; 20], vec![0x3F; 20]].concat()).is_ok());
}
