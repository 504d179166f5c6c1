//! A second opinion: what another program makes of our octets.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use etherparse::PacketBuilder;
use interlex_bacnet::{
    Apdu, BitString, Bvll, CommunicationMode, ConfirmedService, Content, CovNotification, CovTerms, DateTime,
    DeviceCommunicationControl, Error, EventState, EventSummary, GetEventInformationAck, IAm, IHave, LogDatum,
    LogRecord, MaxApdu, MaxSegments, Npdu, ObjectIdentifier, ObjectType, Priority, PropertyIdentifier, Range,
    ReadAccess, ReadProperty, ReadPropertyMultiple, ReadPropertyMultipleAck, ReadRange, ReadRangeAck, ReadResult,
    RequestHeader, Segmentation, SubscribeCov, TimeSynchronization, UnconfirmedService, Value, Wanted, WhoHas, WhoIs,
    WriteProperty, WritePropertyMultiple, unit, unit_name,
};
use pcap_file::DataLink;
use pcap_file::pcap::{PcapHeader, PcapPacket, PcapWriter};
use std::process::Command;
use std::time::Duration;

fn recording(datagrams: &[Vec<u8>]) -> Vec<u8> {
    let header = PcapHeader { datalink: DataLink::RAW, ..PcapHeader::default() };
    let mut writer = PcapWriter::with_header(Vec::new(), header).unwrap();
    for (place, datagram) in (1_u64..).zip(datagrams) {
        let builder = PacketBuilder::ipv4([192, 0, 2, 1], [192, 0, 2, 2], 64).udp(47_808, 47_808);
        let mut packet = Vec::new();
        builder.write(&mut packet, datagram).unwrap();
        let length = u32::try_from(packet.len()).unwrap();
        writer.write_packet(&PcapPacket::new(Duration::from_millis(place), length, &packet)).unwrap();
    }
    writer.into_writer()
}

fn datagram(apdu: &Apdu<'_>) -> Vec<u8> {
    let (mut octets, mut npdu, mut datagram) = (Vec::new(), Vec::new(), Vec::new());
    apdu.encode(&mut octets);
    Npdu::plain(&octets, matches!(apdu, Apdu::ConfirmedRequest { .. })).encode(&mut npdu);
    Bvll::Unicast(&npdu).encode(&mut datagram);
    datagram
}

fn request(service: ConfirmedService, encode: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut data = Vec::new();
    encode(&mut data);
    let header = RequestHeader {
        segment: None,
        accepts_segments: true,
        max_segments: MaxSegments::MORE,
        max_apdu: MaxApdu::BACNET_IP,
        invoke_id: 7,
    };
    datagram(&Apdu::ConfirmedRequest { header, service, data: &data })
}

fn answer(service: ConfirmedService, encode: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut data = Vec::new();
    encode(&mut data);
    datagram(&Apdu::ComplexAck { invoke_id: 7, segment: None, service, data: &data })
}

fn told(service: UnconfirmedService, encode: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut data = Vec::new();
    encode(&mut data);
    datagram(&Apdu::UnconfirmedRequest { service, data: &data })
}

/// What the other program says of each datagram.
fn dissected(datagrams: &[Vec<u8>]) -> Vec<String> {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("bacnet.pcap");
    std::fs::write(&path, recording(datagrams)).unwrap();
    let out = Command::new("tshark").arg("-r").arg(&path).arg("-V").output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8(out.stdout).unwrap();
    let frames: Vec<_> = text.split("\nFrame ").map(str::to_owned).collect();
    assert_eq!(frames.len(), datagrams.len());
    frames
}

#[test]
fn a_dissector_reads_every_service_that_we_write() {
    let object = ObjectIdentifier::new(ObjectType::ANALOG_VALUE, 12).unwrap();
    let log = ObjectIdentifier::new(ObjectType::TREND_LOG, 3).unwrap();
    let device = ObjectIdentifier::device(4001).unwrap();
    let at = DateTime::of_local_millis(1_709_251_200_000).unwrap();
    let flags = BitString::of(&[false, true, false, false]);
    let records = [
        LogDatum::Value(Value::Real(20.5)),
        LogDatum::Value(Value::Enumerated(1)),
        LogDatum::Status { is_disabled: false, is_purged: true, is_interrupted: false },
        LogDatum::Failure(Error::UNKNOWN_OBJECT),
        LogDatum::TimeChange(3600.0),
        LogDatum::Value(Value::Unsigned(7)),
    ];
    let mut items = Vec::new();
    for datum in records {
        LogRecord { at, datum, status_flags: Some(flags.clone()) }.encode(&mut items);
    }
    let items = Content::decode(&items).unwrap();
    let write = |value: Value, priority: u8| WriteProperty {
        object,
        reference: PropertyIdentifier::PRESENT_VALUE.into(),
        value: Content::of(&[value]),
        priority: Priority::new(priority),
    };
    let terms = Some(CovTerms { is_confirmed: true, lifetime: 300 });
    let property = Some((PropertyIdentifier::PRESENT_VALUE.into(), Some(0.25)));
    let cases = [
        (told(UnconfirmedService::WHO_IS, |out| WhoIs { range: Some((5, 4_000_000)) }.encode(out)), "High Limit"),
        (
            told(UnconfirmedService::I_AM, |out| {
                IAm { device, max_apdu: 1476, segmentation: Segmentation::Receive, vendor: 999 }.encode(out);
            }),
            "segmented-receive",
        ),
        (
            told(UnconfirmedService::WHO_HAS, |out| {
                WhoHas { range: None, wanted: Wanted::Object(object) }.encode(out);
            }),
            "analog-value, 12",
        ),
        (
            told(UnconfirmedService::I_HAVE, |out| IHave { device, object, name: "set point".to_owned() }.encode(out)),
            "set point",
        ),
        (told(UnconfirmedService::TIME_SYNCHRONIZATION, |out| TimeSynchronization(at).encode(out)), "March 1, 2024"),
        (
            request(ConfirmedService::READ_PROPERTY, |out| {
                ReadProperty { object, reference: PropertyIdentifier::PRIORITY_ARRAY.into() }.encode(out);
            }),
            "priority-array",
        ),
        (
            request(ConfirmedService::READ_PROPERTY_MULTIPLE, |out| {
                let properties =
                    vec![PropertyIdentifier::PRESENT_VALUE.into(), PropertyIdentifier::STATUS_FLAGS.into()];
                ReadPropertyMultiple(vec![ReadAccess { object, properties }]).encode(out);
            }),
            "status-flags",
        ),
        (
            answer(ConfirmedService::READ_PROPERTY_MULTIPLE, |out| {
                let results = vec![
                    (PropertyIdentifier::PRESENT_VALUE.into(), Ok(Content::of(&[20.5_f32.into()]))),
                    (PropertyIdentifier::UNITS.into(), Err(Error::UNKNOWN_PROPERTY)),
                ];
                ReadPropertyMultipleAck(vec![ReadResult { object, results }]).encode(out);
            }),
            "unknown-property",
        ),
        (request(ConfirmedService::WRITE_PROPERTY, |out| write(Value::Null, 8).encode(out)), "Priority: (Unsigned) 8"),
        (
            request(ConfirmedService::WRITE_PROPERTY_MULTIPLE, |out| {
                WritePropertyMultiple(vec![write(20.5_f32.into(), 8), write(21.5_f32.into(), 9)]).encode(out);
            }),
            "21.5",
        ),
        (
            request(ConfirmedService::SUBSCRIBE_COV, |out| {
                SubscribeCov { process: 5, object, terms, property: None }.encode(out);
            }),
            "issue Confirmed Notifications: TRUE",
        ),
        (
            request(ConfirmedService::SUBSCRIBE_COV_PROPERTY, |out| {
                SubscribeCov { process: 5, object, terms, property }.encode(out);
            }),
            "0.25",
        ),
        (
            told(UnconfirmedService::COV_NOTIFICATION, |out| {
                let values = vec![
                    (PropertyIdentifier::PRESENT_VALUE.into(), Content::of(&[43.5_f32.into()])),
                    (PropertyIdentifier::STATUS_FLAGS.into(), Content::of(&[flags.clone().into()])),
                ];
                CovNotification { process: 5, device, object, time_remaining: 77, values }.encode(out);
            }),
            "Time remaining:  (hh.mm.ss): 0.01.17",
        ),
        (
            request(ConfirmedService::READ_RANGE, |out| {
                let reference = PropertyIdentifier::LOG_BUFFER.into();
                ReadRange { object: log, reference, range: Some(Range::Time(at, 100)) }.encode(out);
            }),
            "log-buffer",
        ),
        (
            answer(ConfirmedService::READ_RANGE, |out| {
                let reference = PropertyIdentifier::LOG_BUFFER.into();
                let (has_first, has_last, has_more) = (true, false, true);
                let first_sequence = Some(77);
                ReadRangeAck { object: log, reference, has_first, has_last, has_more, count: 6, items, first_sequence }
                    .encode(out);
            }),
            "first Sequence Number: (Unsigned) 77",
        ),
        (
            request(ConfirmedService::DEVICE_COMMUNICATION_CONTROL, |out| {
                let mode = CommunicationMode::DisableInitiation;
                DeviceCommunicationControl { minutes: Some(5), mode, password: Some("open".to_owned()) }.encode(out);
            }),
            "open",
        ),
        (
            answer(ConfirmedService::GET_EVENT_INFORMATION, |out| {
                let acknowledged = BitString::of(&[true, false, true]);
                let summaries = vec![EventSummary { object, state: EventState(3), acknowledged }];
                GetEventInformationAck { summaries, has_more: false }.encode(out);
            }),
            "high-limit",
        ),
    ];
    let datagrams: Vec<_> = cases.iter().map(|(datagram, _)| datagram.clone()).collect();
    let mut wrong = Vec::new();
    for (frame, (datagram, words)) in dissected(&datagrams).iter().zip(&cases) {
        let is_right = frame.contains(words) && !frame.contains("Malformed") && !frame.contains("[Expert Info (Error");
        if !is_right {
            wrong.push(format!("{words} in {}\n{frame}", hex::encode(datagram)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A name as either program writes it: letters only.
fn letters(text: &str) -> String {
    text.chars().filter(char::is_ascii_alphanumeric).flat_map(char::to_lowercase).collect()
}

#[test]
fn units_and_properties_have_the_names_that_others_know() {
    let object = ObjectIdentifier::new(ObjectType::ANALOG_VALUE, 12).unwrap();
    let property = |number: u32| {
        request(ConfirmedService::READ_PROPERTY, |out| {
            ReadProperty { object, reference: PropertyIdentifier(number).into() }.encode(out);
        })
    };
    let datagrams: Vec<_> = (0..512).map(property).collect();
    for (number, frame) in (0_u32..).zip(dissected(&datagrams)) {
        let name = PropertyIdentifier(number).to_string();
        let is_unknown = name == number.to_string();
        let other = frame.split("Property Identifier: ").nth(1).unwrap().split(" (").next().unwrap();
        assert!(is_unknown || other == name, "{number}: {name}, {other}");
        assert_eq!(name.parse(), Ok(PropertyIdentifier(number)));
    }
    let known = (0..256).filter(|number| unit(*number).is_some()).count();
    assert_eq!((known, unit_name(62), unit(135)), (255, Some("degrees-celsius"), Some("m³/h")));
    let told = |number: u32| {
        answer(ConfirmedService::READ_PROPERTY, |out| {
            let value = Content::of(&[Value::Enumerated(number)]);
            let reference = PropertyIdentifier::UNITS.into();
            interlex_bacnet::ReadPropertyAck { object, reference, value }.encode(out);
        })
    };
    let datagrams: Vec<_> = (145..255).map(told).collect();
    for (number, frame) in (145_u32..).zip(dissected(&datagrams)) {
        let other = frame.split("units: ").nth(1).unwrap().split(" (").next().unwrap();
        assert_eq!(letters(unit_name(number).unwrap()), letters(other), "{number}");
    }
}
