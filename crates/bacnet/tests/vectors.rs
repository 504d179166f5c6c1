//! Octets that others made, and what they mean.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_bacnet::{
    Apdu, Bvll, ConfirmedService, Content, CovNotification, DecodeError, Destination, Error, IAm, IHave, LogDatum,
    LogRecord, NetworkMessage, Npdu, NpduContent, ObjectIdentifier, PropertyReference, Range, ReadProperty,
    ReadPropertyAck, ReadPropertyMultiple, ReadPropertyMultipleAck, ReadRange, ReadRangeAck, Segment, SubscribeCov,
    TableMessage, TimeSynchronization, UnconfirmedService, Value, Wanted, WhoHas, WhoIs, WriteProperty,
    WritePropertyMultiple,
};
use serde_json::{Map, Value as Json, json};

struct Vector {
    name: String,
    octets: Vec<u8>,
    is_malformed: bool,
    is_tolerated: bool,
    meaning: Json,
}

fn vectors(layers: &[&str]) -> Vec<Vector> {
    let of_line = |line: &str| {
        let all: Json = serde_json::from_str(line).unwrap();
        let is_meant = layers.contains(&all["layer"].as_str().unwrap());
        is_meant.then(|| Vector {
            name: all["name"].as_str().unwrap().to_owned(),
            octets: hex::decode(all["hex"].as_str().unwrap()).unwrap(),
            is_malformed: all["expect"] == "error",
            is_tolerated: all.get("tolerated").is_some(),
            meaning: all["meaning"].clone(),
        })
    };
    let found: Vec<_> = include_str!("vectors/bacnet.jsonl").lines().filter_map(of_line).collect();
    assert!(found.len() > 10, "{} vectors of {layers:?}", found.len());
    found
}

/// What only explains a value.
const EXPLAINS: [&str; 8] =
    ["Meaning", "Note", "Text", "Wildcard", "LengthEncoding", "CharacterSet", "weekday_text", "Length"];

/// Every field that a vector has is the same in ours.
fn agrees(expected: &Json, ours: &Json, at: &str) -> Result<(), String> {
    match (expected, ours) {
        (Json::Object(expected), Json::Object(ours)) => {
            expected.iter().filter(|(key, _)| !EXPLAINS.contains(&key.as_str())).try_for_each(|(key, value)| {
                agrees(value, ours.get(key).unwrap_or(&json!("nothing")), &format!("{at}.{key}"))
            })
        }
        (Json::Array(expected), Json::Array(ours)) if expected.len() == ours.len() => expected
            .iter()
            .zip(ours)
            .enumerate()
            .try_for_each(|(n, (one, other))| agrees(one, other, &format!("{at}[{n}]"))),
        (Json::Number(one), Json::Number(other)) if one.as_f64() == other.as_f64() => Ok(()),
        _ if expected == ours => Ok(()),
        _ => Err(format!("{at}: {expected} expected, {ours} read")),
    }
}

fn float(number: f64) -> Json {
    match number {
        number if number.is_nan() => json!("NaN"),
        number if number.is_infinite() => json!("Infinity"),
        number => json!(number),
    }
}

/// A value as `{kind: value}`.
fn value(value: &Value) -> (&'static str, Json) {
    match value {
        Value::Null => ("Null", Json::Null),
        Value::Boolean(value) => ("Boolean", json!(value)),
        Value::Unsigned(number) if *number > 1 << 53 => ("Unsigned", json!(number.to_string())),
        Value::Unsigned(number) => ("Unsigned", json!(number)),
        Value::Signed(number) => ("Signed", json!(number)),
        Value::Real(number) => ("Real", float((*number).into())),
        Value::Double(number) => ("Double", float(*number)),
        Value::OctetString(octets) => ("OctetString", json!(hex::encode(octets))),
        Value::CharacterString(text) => ("CharacterString", json!(text)),
        Value::BitString(bits) => ("BitString", json!(bits.to_string())),
        Value::Enumerated(number) => ("Enumerated", json!(number)),
        Value::Date(date) => ("Date", json!(weekday(date.to_string(), date.weekday))),
        Value::Time(time) => ("Time", json!(time.to_string())),
        Value::ObjectIdentifier(object) => ("ObjectIdentifier", self::object(*object)),
    }
}

fn weekday(date: String, weekday: u8) -> String {
    let names = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
    format!("{date} {}", names[usize::from(weekday) - 1])
}

fn object(object: ObjectIdentifier) -> Json {
    json!(object.to_string().replace(':', ", "))
}

fn named(name: &str, number: u32) -> String {
    if name == number.to_string() { name.to_owned() } else { format!("{name} ({number})") }
}

fn property(reference: &PropertyReference) -> Map<String, Json> {
    let name = named(&reference.property.to_string(), reference.property.0);
    let mut all = Map::from_iter([("Property".to_owned(), json!(name))]);
    all.extend(reference.index.map(|index| ("ArrayIndex".to_owned(), json!(index))));
    all
}

/// A property as a text, where nothing but its name is told.
fn short(reference: &PropertyReference) -> Json {
    let all = property(reference);
    if all.len() == 1 { all["Property"].clone() } else { all.into() }
}

fn content(reference: &PropertyReference, content: &Content) -> Json {
    let values = content.values().unwrap();
    let pair = |read: &Value| {
        let (kind, read) = value(read);
        Json::Object(Map::from_iter([(kind.to_owned(), read)]))
    };
    let texts = || values.iter().map(|read| value(read).1).collect::<Vec<_>>();
    match (reference.property.to_string().as_str(), values.as_slice()) {
        ("priority-array", all) if reference.index.is_none() => {
            let slots: Vec<_> =
                all.iter().map(|slot| if *slot == Value::Null { Json::Null } else { pair(slot) }).collect();
            json!({ "PriorityArray": slots })
        }
        ("state-text", _) if reference.index.is_none() => json!({ "CharacterStrings": texts() }),
        ("object-list", _) if reference.index.is_none() => json!({ "ObjectIdentifiers": texts() }),
        (_, [one]) => pair(one),
        (_, several) => json!(several.iter().map(pair).collect::<Vec<_>>()),
    }
}

fn merged(parts: impl IntoIterator<Item = Map<String, Json>>) -> Map<String, Json> {
    parts.into_iter().flatten().collect()
}

fn map(json: Json) -> Map<String, Json> {
    json.as_object().unwrap().clone()
}

fn error(error: Error) -> Json {
    let class = error.to_string().split_once('(').unwrap().1.trim_end_matches(')').to_owned();
    json!({ "ErrorClass": named(&class, error.class), "ErrorCode": named(error.code_name().unwrap(), error.code) })
}

type Meant = (Map<String, Json>, Option<Vec<u8>>);

/// What the octets of a service mean, and the same octets made of that.
fn service(apdu: &Apdu<'_>) -> Result<Meant, DecodeError> {
    let mut out = Vec::new();
    let fields = match apdu {
        Apdu::ConfirmedRequest { service, data, .. } => match *service {
            ConfirmedService::READ_PROPERTY => {
                let read = ReadProperty::decode(data)?;
                read.encode(&mut out);
                merged([map(json!({ "Object": object(read.object) })), property(&read.reference)])
            }
            ConfirmedService::READ_PROPERTY_MULTIPLE => {
                let read = ReadPropertyMultiple::decode(data)?;
                read.encode(&mut out);
                let specs: Vec<_> = read.0.iter().map(|access| {
                    json!({ "Object": object(access.object), "Properties": access.properties.iter().map(short).collect::<Vec<_>>() })
                }).collect();
                map(json!({ "Specs": specs }))
            }
            ConfirmedService::WRITE_PROPERTY => {
                let write = WriteProperty::decode(data)?;
                write.encode(&mut out);
                let mut all = property(&write.reference);
                all.insert("Object".to_owned(), object(write.object));
                all.insert("Value".to_owned(), content(&write.reference, &write.value));
                all.extend(write.priority.map(|priority| ("Priority".to_owned(), json!(priority.number()))));
                all
            }
            ConfirmedService::WRITE_PROPERTY_MULTIPLE => {
                let writes = WritePropertyMultiple::decode(data)?;
                writes.encode(&mut out);
                let spec = |write: &WriteProperty| {
                    let mut all = merged([property(&write.reference), map(content(&write.reference, &write.value))]);
                    all.insert("Object".to_owned(), object(write.object));
                    all.extend(write.priority.map(|priority| ("Priority".to_owned(), json!(priority.number()))));
                    all
                };
                map(json!({ "Specs": writes.0.iter().map(spec).collect::<Vec<_>>() }))
            }
            ConfirmedService::SUBSCRIBE_COV => {
                let subscription = SubscribeCov::decode(data)?;
                subscription.encode(&mut out);
                let mut all = map(json!({
                    "SubscriberProcessIdentifier": subscription.process, "Object": object(subscription.object),
                }));
                if let Some(terms) = subscription.terms {
                    all.insert("IssueConfirmedNotifications".to_owned(), json!(terms.is_confirmed));
                    all.insert("Lifetime".to_owned(), json!(terms.lifetime));
                }
                all
            }
            ConfirmedService::COV_NOTIFICATION => notification(data, &mut out)?,
            ConfirmedService::READ_RANGE => {
                let read = ReadRange::decode(data)?;
                read.encode(&mut out);
                let (kind, first, count) = match read.range.unwrap() {
                    Range::Position(first, count) => ("ByPosition", first, count),
                    Range::Sequence(first, count) => ("BySequenceNumber", first, count),
                    Range::Time(..) => panic!("no vector asks by time"),
                };
                let mut all = property(&read.reference);
                all.insert("Object".to_owned(), object(read.object));
                all.insert(kind.to_owned(), json!({ "ReferenceIndex": first, "Count": count }));
                all
            }
            other => panic!("{other}"),
        },
        Apdu::UnconfirmedRequest { service, data } => match *service {
            UnconfirmedService::WHO_IS => {
                let asked = WhoIs::decode(data)?;
                asked.encode(&mut out);
                asked.range.map_or_else(Map::new, |(low, high)| map(json!({ "Low": low, "High": high })))
            }
            UnconfirmedService::I_AM => {
                let told = IAm::decode(data)?;
                told.encode(&mut out);
                let names =
                    ["segmented-both (0)", "segmented-transmit (1)", "segmented-receive (2)", "no-segmentation (3)"];
                map(json!({
                    "Device": object(told.device), "MaxAPDULengthAccepted": told.max_apdu, "VendorID": told.vendor,
                    "Segmentation": names[usize::try_from(told.segmentation.number()).unwrap()],
                }))
            }
            UnconfirmedService::WHO_HAS => {
                let asked = WhoHas::decode(data)?;
                asked.encode(&mut out);
                match asked.wanted {
                    Wanted::Name(name) => map(json!({ "ObjectName": name })),
                    Wanted::Object(wanted) => map(json!({ "Object": object(wanted) })),
                }
            }
            UnconfirmedService::I_HAVE => {
                let told = IHave::decode(data)?;
                told.encode(&mut out);
                map(json!({ "Device": object(told.device), "Object": object(told.object), "ObjectName": told.name }))
            }
            UnconfirmedService::COV_NOTIFICATION => notification(data, &mut out)?,
            UnconfirmedService::TIME_SYNCHRONIZATION => {
                let TimeSynchronization(at) = TimeSynchronization::decode(data)?;
                TimeSynchronization(at).encode(&mut out);
                map(json!({ "Date": weekday(at.date.to_string(), at.date.weekday), "Time": at.time.to_string() }))
            }
            other => panic!("{other}"),
        },
        Apdu::ComplexAck { segment: None, service, data, .. } => match *service {
            ConfirmedService::READ_PROPERTY => read_property_ack(data, &mut out)?,
            ConfirmedService::READ_PROPERTY_MULTIPLE => {
                let ack = ReadPropertyMultipleAck::decode(data)?;
                ack.encode(&mut out);
                let result = |(reference, outcome): &(PropertyReference, Result<Content, Error>)| {
                    let told = match outcome {
                        Ok(read) => map(content(reference, read)),
                        Err(told) => map(json!({ "Error": error(*told) })),
                    };
                    merged([property(reference), told])
                };
                let results: Vec<_> = ack.0.iter().map(|of| {
                    json!({ "Object": object(of.object), "Results": of.results.iter().map(result).collect::<Vec<_>>() })
                }).collect();
                map(json!({ "Results": results }))
            }
            ConfirmedService::READ_RANGE => {
                let ack = ReadRangeAck::decode(data)?;
                ack.encode(&mut out);
                let record = |record: &LogRecord| {
                    let LogDatum::Value(read) = &record.datum else { panic!("{record:?}") };
                    let (kind, read) = value(read);
                    let mut all = Map::from_iter([(kind.to_owned(), read)]);
                    let (date, time) = (record.at.date, record.at.time);
                    all.insert("Date".to_owned(), json!(weekday(date.to_string(), date.weekday)));
                    all.insert("Time".to_owned(), json!(time.to_string()));
                    all.insert("StatusFlags".to_owned(), json!(record.status_flags.as_ref().unwrap().to_string()));
                    all
                };
                let records = LogRecord::decode_all(&ack.items)?;
                let mut again = Vec::new();
                records.iter().for_each(|record| record.encode(&mut again));
                assert_eq!(again, ack.items.octets());
                let mut all = property(&ack.reference);
                all.extend(map(json!({
                    "Object": object(ack.object), "ItemCount": ack.count, "FirstSequenceNumber": ack.first_sequence,
                    "ResultFlags": { "FirstItem": ack.has_first, "LastItem": ack.has_last, "MoreItems": ack.has_more },
                    "Records": records.iter().map(record).collect::<Vec<_>>(),
                })));
                all
            }
            other => panic!("{other}"),
        },
        Apdu::ComplexAck { segment: Some(_), data, .. } => {
            return Ok((map(json!({ "SegmentLength": data.len() })), None));
        }
        Apdu::Error { data, .. } => {
            let told = Error::decode(data)?;
            told.encode(&mut out);
            map(error(told))
        }
        _ => return Ok((Map::new(), None)),
    };
    Ok((fields, Some(out)))
}

fn read_property_ack(data: &[u8], out: &mut Vec<u8>) -> Result<Map<String, Json>, DecodeError> {
    let ack = ReadPropertyAck::decode(data)?;
    ack.encode(out);
    let mut all = property(&ack.reference);
    all.insert("Object".to_owned(), object(ack.object));
    if ack.value.values().is_err() {
        return ack.value.values().map(|_| all);
    }
    all.insert("Value".to_owned(), content(&ack.reference, &ack.value));
    Ok(all)
}

fn notification(data: &[u8], out: &mut Vec<u8>) -> Result<Map<String, Json>, DecodeError> {
    let told = CovNotification::decode(data)?;
    told.encode(out);
    let values: Vec<_> = told
        .values
        .iter()
        .map(|(reference, read)| merged([property(reference), map(content(reference, read))]))
        .collect();
    Ok(map(json!({
        "SubscriberProcessIdentifier": told.process, "Device": object(told.device), "Object": object(told.object),
        "TimeRemaining": told.time_remaining, "Values": values,
    })))
}

/// The first letter is small in some programs, and whole words are large in others.
fn lower_first(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|first| first.to_lowercase().chain(letters).collect()).unwrap_or_default()
}

fn apdu_meaning(octets: &[u8]) -> Result<Json, DecodeError> {
    let apdu = Apdu::decode(octets)?;
    let mut again = Vec::new();
    apdu.encode(&mut again);
    assert_eq!(hex::encode(&again), hex::encode(octets), "the same octets again");
    let (fields, made) = service(&apdu)?;
    let segmented = |segment: &Option<Segment>| {
        let mut all = map(json!({ "Segmented": segment.is_some() }));
        if let Some(segment) = segment {
            all.extend(map(json!({
                "MoreFollows": segment.more_follows, "SequenceNumber": segment.sequence, "ProposedWindowSize": segment.window,
            })));
        }
        all
    };
    let (header, data) = match &apdu {
        Apdu::ConfirmedRequest { header, service, data } => {
            let most = header.max_segments.most().map_or_else(|| json!("more than 64"), |most| json!(most));
            let all = json!({
                "PDU": "ConfirmedRequest", "InvokeID": header.invoke_id, "Service": lower_first(&service.to_string()),
                "SegmentedResponseAccepted": header.accepts_segments, "MaxSegments": most,
                "MaxAPDU": header.max_apdu.octets(),
            });
            (all, Some(*data))
        }
        Apdu::UnconfirmedRequest { service, data } => {
            (json!({ "PDU": "UnconfirmedRequest", "Service": lower_first(&service.to_string()) }), Some(*data))
        }
        Apdu::SimpleAck { invoke_id, service } => {
            (json!({ "PDU": "SimpleACK", "InvokeID": invoke_id, "Service": lower_first(&service.to_string()) }), None)
        }
        Apdu::ComplexAck { invoke_id, segment, service, data } => {
            let mut all = segmented(segment);
            all.extend(map(json!({
                "PDU": "ComplexACK", "InvokeID": invoke_id, "Service": lower_first(&service.to_string()),
            })));
            (all.into(), Some(*data))
        }
        Apdu::SegmentAck(ack) => {
            let all = json!({
                "PDU": "SegmentACK", "NegativeACK": ack.is_negative, "Server": ack.by_server, "InvokeID": ack.invoke_id,
                "SequenceNumber": ack.sequence, "ActualWindowSize": ack.window,
            });
            (all, None)
        }
        Apdu::Error { invoke_id, service, data } => {
            let all = json!({ "PDU": "Error", "InvokeID": invoke_id, "Service": lower_first(&service.to_string()) });
            (all, Some(*data))
        }
        Apdu::Reject { invoke_id, reason } => {
            let reason = named(&reason.to_string(), reason.0.into());
            (json!({ "PDU": "Reject", "InvokeID": invoke_id, "Reason": reason }), None)
        }
        Apdu::Abort { by_server, invoke_id, reason } => {
            let reason = named(&reason.to_string(), reason.0.into());
            (json!({ "PDU": "Abort", "Server": by_server, "InvokeID": invoke_id, "Reason": reason }), None)
        }
    };
    if let (Some(data), Some(made)) = (data, made) {
        assert_eq!(hex::encode(made), hex::encode(data), "the same service again");
    }
    let mut all = map(header);
    all.extend(fields);
    Ok(all.into())
}

fn npdu_meaning(octets: &[u8]) -> Result<Json, DecodeError> {
    let npdu = Npdu::decode(octets)?;
    let mut again = Vec::new();
    npdu.encode(&mut again);
    assert_eq!(hex::encode(again), hex::encode(octets), "the same octets again");
    let mut all = map(json!({ "Version": 1, "ExpectingReply": npdu.expects_reply, "Priority": npdu.priority }));
    let (network, mac) = match npdu.destination {
        None => (None, Vec::new()),
        Some(Destination::Global) => (Some(65_535), Vec::new()),
        Some(Destination::Network(network)) => (Some(network), Vec::new()),
        Some(Destination::Station(to)) => (Some(to.network), to.mac.octets().to_vec()),
    };
    if let Some(network) = network {
        all.extend(map(
            json!({ "DNET": network, "DLEN": mac.len(), "HopCount": npdu.hop_count, "DADR": hex::encode(mac) }),
        ));
    }
    if let Some(from) = npdu.source {
        let mac = from.mac.octets();
        all.extend(map(json!({ "SNET": from.network, "SLEN": mac.len(), "SADR": hex::encode(mac) })));
    }
    match npdu.content {
        NpduContent::Apdu(apdu) => Ok(json!({ "NPDU": all, "APDU": apdu_meaning(apdu)? })),
        NpduContent::Message(message) => {
            all.extend(map(match message {
                NetworkMessage::WhoIsRouter(network) => {
                    let mut told = map(json!({ "MessageType": "Who-Is-Router-To-Network (0x00)" }));
                    told.extend(network.map(|network| ("Network".to_owned(), json!(network))));
                    told.into()
                }
                NetworkMessage::IAmRouter(networks) => {
                    json!({ "MessageType": "I-Am-Router-To-Network (0x01)", "Networks": networks })
                }
                NetworkMessage::Reject { reason, network } => json!({
                    "MessageType": "Reject-Message-To-Network (0x03)", "RejectReason": reason, "Network": network,
                }),
                NetworkMessage::NetworkNumberIs { network, is_configured } => json!({
                    "MessageType": "Network-Number-Is (0x13)", "Network": network, "Configured": u8::from(is_configured),
                }),
                other => panic!("{other:?}"),
            }));
            all.insert("NetworkLayerMessage".to_owned(), json!(true));
            Ok(json!({ "NPDU": all }))
        }
    }
}

/// What a datagram means.
fn meaning(octets: &[u8]) -> Result<Json, DecodeError> {
    let bvll = Bvll::decode(octets)?;
    let is_whole = usize::from(u16::from_be_bytes([octets[2], octets[3]])) == octets.len();
    if is_whole && !matches!(bvll, Bvll::Table(_)) {
        let mut again = Vec::new();
        bvll.encode(&mut again);
        assert_eq!(hex::encode(again), hex::encode(octets), "the same octets again");
    }
    let (name, npdu) = match bvll {
        Bvll::Unicast(npdu) => ("Original-Unicast-NPDU", Some(npdu)),
        Bvll::Broadcast(npdu) => ("Original-Broadcast-NPDU", Some(npdu)),
        Bvll::DistributeBroadcast(npdu) => ("Distribute-Broadcast-To-Network", Some(npdu)),
        Bvll::Forwarded { npdu, .. } => ("Forwarded-NPDU", Some(npdu)),
        Bvll::Result(_) => ("BVLC-Result", None),
        Bvll::RegisterForeignDevice { .. } => ("Register-Foreign-Device", None),
        Bvll::Table(TableMessage::ReadBroadcast) => ("Read-Broadcast-Distribution-Table", None),
        Bvll::Table(TableMessage::ReadBroadcastAck(_)) => ("Read-Broadcast-Distribution-Table-Ack", None),
        Bvll::Table(TableMessage::ReadForeign) => ("Read-Foreign-Device-Table", None),
        Bvll::Table(TableMessage::ReadForeignAck(_)) => ("Read-Foreign-Device-Table-Ack", None),
        Bvll::Table(TableMessage::DeleteForeign) => ("Delete-Foreign-Device-Table-Entry", None),
        Bvll::Table(other) => panic!("{other:?}"),
    };
    let mut all = npdu.map(npdu_meaning).transpose()?.map_or_else(Map::new, map);
    let mut around = map(json!({ "Function": name }));
    match bvll {
        Bvll::Result(code) => around.extend(map(json!({ "ResultCode": code.0 }))),
        Bvll::RegisterForeignDevice { time_to_live } => around.extend(map(json!({ "TimeToLive": time_to_live }))),
        Bvll::Forwarded { origin, .. } => around.extend(map(json!({ "OriginAddress": origin.to_string() }))),
        _ => {}
    }
    all.insert("BVLC".to_owned(), around.into());
    Ok(all.into())
}

/// Names and forms of a few fields differ between programs, and are looked at by hand.
fn without_tables(mut meaning: Json) -> Json {
    if let Some(around) = meaning.get_mut("BVLC").and_then(Json::as_object_mut) {
        let known = ["Function", "TimeToLive"];
        around.retain(|key, _| known.contains(&key.as_str()));
    }
    meaning
}

#[test]
fn datagrams_mean_what_they_mean_to_others_and_are_made_again() {
    for vector in vectors(&["frame", "bvll", "npdu"]) {
        let read = meaning(&vector.octets);
        match read {
            Err(error) if !vector.is_malformed => panic!("{}: {error}", vector.name),
            Err(_) => {}
            Ok(read) if vector.is_malformed => assert!(vector.is_tolerated, "{} was read as {read}", vector.name),
            Ok(read) => {
                let expected = without_tables(vector.meaning);
                agrees(&expected, &read, "").unwrap_or_else(|why| panic!("{}{why}", vector.name));
            }
        }
    }
}

#[test]
fn values_mean_what_they_mean_to_others() {
    for vector in vectors(&["tag"]) {
        let read = match Value::decode(&vector.octets) {
            Err(error) if !vector.is_malformed => panic!("{}: {error}", vector.name),
            Err(_) => continue,
            Ok(read) => read,
        };
        assert!(!vector.is_malformed || vector.is_tolerated, "{} was read as {read:?}", vector.name);
        if vector.is_malformed {
            continue;
        }
        let mut again = Vec::new();
        read.encode(&mut again);
        // Texts are written in UTF-8, and numbers as short as they can be.
        let is_other = ["ucs", "iso", "leading-zero"].iter().any(|part| vector.name.contains(part));
        assert!(is_other || again == vector.octets, "{}: {}", vector.name, hex::encode(&again));
        assert!(Value::decode(&again).is_ok_and(|other| other == read || other.to_string() == "NaN"));
        let (kind, ours) = value_of(&read);
        agrees(&vector.meaning["Tag"], &json!(kind), "").unwrap_or_else(|why| panic!("{}{why}", vector.name));
        if let Some(expected) = vector.meaning.get("Value") {
            agrees(expected, &ours, "").unwrap_or_else(|why| panic!("{}{why}", vector.name));
        }
        if let Value::ObjectIdentifier(object) = read {
            assert_eq!(vector.meaning["ObjectType"], json!(object.object_type().number()));
            assert_eq!(vector.meaning["Instance"], json!(object.instance()));
        }
    }
}

fn value_of(read: &Value) -> (&'static str, Json) {
    match read {
        Value::Date(date) => {
            let parts =
                json!({ "year": date.full_year(), "month": date.month, "day": date.day, "weekday": date.weekday });
            ("Date", parts)
        }
        Value::Time(time) => {
            let [hour, minute, second, hundredths] = time.octets();
            ("Time", json!({ "hour": hour, "minute": minute, "second": second, "hundredths": hundredths }))
        }
        other => value(other),
    }
}

#[test]
fn tags_are_read_with_what_is_behind_them() {
    use interlex_bacnet::Element;
    for vector in vectors(&["tag-structure"]) {
        // A tag that opens or closes something stands in pairs.
        let opens = vector.octets[0] & 0x07 == 6 && vector.octets[0] & 0x08 != 0;
        let closes = vector.octets[0] & 0x07 == 7 && vector.octets[0] & 0x08 != 0;
        let mut octets = vector.octets.clone();
        if opens {
            octets.extend(&vector.octets);
            octets[vector.octets.len()] |= 1;
        }
        let read = Content::decode(&octets);
        if vector.is_malformed || closes {
            assert!(read.is_err(), "{}", vector.name);
            continue;
        }
        let read = read.unwrap();
        let element = read.elements().next().unwrap().unwrap();
        let number = &vector.meaning["Number"];
        match element {
            Element::Context(found, data) => {
                assert_eq!((json!(found), json!(hex::encode(data))), (number.clone(), vector.meaning["Data"].clone()));
            }
            Element::Constructed(found, _) => assert_eq!(json!(found), *number),
            Element::Value(read) => panic!("{}: {read:?}", vector.name),
        }
    }
}

#[test]
fn an_object_list_that_came_in_segments_is_read() {
    let [vector] = &vectors_of_service_data()[..] else { panic!("one vector") };
    let ack = ReadPropertyAck::decode(&vector.octets).unwrap();
    let objects = ack.value.values().unwrap();
    assert!(objects.len() > 50 && objects.iter().all(|object| matches!(object, Value::ObjectIdentifier(_))));
    assert_eq!(objects[0].to_string(), "device:1001");
}

fn vectors_of_service_data() -> Vec<Vector> {
    let all: Vec<Json> =
        include_str!("vectors/bacnet.jsonl").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let found = all.iter().filter(|all| all["layer"] == "service-data");
    let vector = |all: &Json| Vector {
        name: all["name"].to_string(),
        octets: hex::decode(all["hex"].as_str().unwrap()).unwrap(),
        is_malformed: false,
        is_tolerated: false,
        meaning: all["meaning"].clone(),
    };
    found.map(vector).collect()
}
