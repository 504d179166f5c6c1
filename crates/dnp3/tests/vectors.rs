//! Octets that others made, and what they mean.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_dnp3::{
    Assembler, Block, DoubleBit, Entry, Flags, Frame, FrameReader, FunctionCode, LinkAddress, LinkFunction,
    MeasuredValue, Measurement, Number, Object, ObjectTime, Operation, PointKind, Prefix, Request, Response, Selection,
    Sender, Splitter, TripClose,
};
use serde_json::{Map, Value, json};

const MOST: usize = 2048;

struct Vector {
    name: String,
    framing: String,
    is_response: bool,
    octets: Vec<u8>,
    expect: String,
    all: Value,
}

fn vectors(framing: &str) -> Vec<Vector> {
    let of_line = |line: &str| {
        let all: Value = serde_json::from_str(line).unwrap();
        let text = |key: &str| all[key].as_str().unwrap_or_default().to_owned();
        Vector {
            name: text("name"),
            framing: text("framing"),
            is_response: all["direction"] == "response",
            octets: hex::decode(text("hex")).unwrap(),
            expect: text("expect"),
            all,
        }
    };
    let all = include_str!("vectors/dnp3.jsonl").lines().map(of_line);
    let found: Vec<_> = all.filter(|vector| vector.framing == framing).collect();
    assert!(found.len() > 15, "{} vectors of {framing}", found.len());
    found
}

/// The frames in some octets, and whether something in them was none.
fn frames(octets: &[u8]) -> (Vec<Frame>, bool) {
    let (mut reader, mut frames, mut is_broken) = (FrameReader::default(), Vec::new(), false);
    // However they are cut up.
    for part in octets.chunks(7) {
        reader.push(part);
        while let Some(found) = reader.next_frame() {
            match found {
                Ok(frame) => frames.push(frame),
                Err(_) => is_broken = true,
            }
        }
    }
    let is_rest = reader.waiting() > 0;
    (frames, is_broken || is_rest || reader.noise() > 0)
}

fn link_meaning(frame: &Frame, octets: &[u8]) -> Value {
    let control = octets[3];
    let mut meaning = json!({
        "length": octets[2],
        "from_master": frame.sender == Sender::Master,
        "primary": frame.function.is_primary(),
        "function_code": control & 0xF,
        "destination": frame.destination.0,
        "source": frame.source.0,
        "user_data": hex::encode(&frame.user_data),
    });
    let (word, bits) = match frame.function {
        LinkFunction::ResetLinkStates => ("reset_link_states", json!({"fcb": false, "fcv": false})),
        LinkFunction::TestLinkStates { frame_count } => ("test_link_states", json!({"fcb": frame_count, "fcv": true})),
        LinkFunction::ConfirmedUserData { frame_count } => {
            ("confirmed_user_data", json!({"fcb": frame_count, "fcv": true}))
        }
        LinkFunction::UnconfirmedUserData => ("unconfirmed_user_data", json!({"fcb": false, "fcv": false})),
        LinkFunction::RequestLinkStatus => ("request_link_status", json!({"fcb": false, "fcv": false})),
        LinkFunction::Ack { is_full } => ("ack", json!({"dfc": is_full})),
        LinkFunction::Nack { is_full } => ("nack", json!({"dfc": is_full})),
        LinkFunction::LinkStatus { is_full } => ("link_status", json!({"dfc": is_full})),
        LinkFunction::NotSupported { is_full } => ("not_supported", json!({"dfc": is_full})),
    };
    let all = meaning.as_object_mut().unwrap();
    all.insert("function".to_owned(), json!(word));
    all.extend(bits.as_object().unwrap().clone());
    meaning
}

#[test]
fn frames_mean_what_they_should_and_are_made_as_they_were() {
    for vector in vectors("link") {
        let name = &vector.name;
        let (found, is_broken) = frames(&vector.octets);
        match vector.expect.as_str() {
            "" => {
                assert!(found.len() == 1 && !is_broken, "{name}");
                assert_eq!(link_meaning(&found[0], &vector.octets), vector.all["meaning"], "{name}");
                let mut out = Vec::new();
                found[0].encode(&mut out);
                // In an answer, a bit means nothing, and is not made.
                let means_nothing = !found[0].function.is_primary() && vector.octets[3] & 0x20 != 0;
                assert_eq!(out == vector.octets, !means_nothing, "{name}");
            }
            "error" => {
                // A master takes nothing of what says that a master sent it.
                let taken = found.iter().filter(|frame| frame.sender == Sender::Outstation).count();
                assert_eq!(taken, 0, "{name}: {found:?}");
                assert!(is_broken || !found.is_empty(), "{name}");
            }
            "ignored" => {
                let is_ours = |frame: &Frame| (frame.destination, frame.source) == (LinkAddress(1), LinkAddress(10));
                assert!(found.len() == 1 && !is_ours(&found[0]), "{name}");
            }
            "resync" => {
                assert!(is_broken, "{name}");
                let data: Vec<_> = found.iter().map(|frame| hex::encode(&frame.user_data)).collect();
                assert_eq!(json!(data), json!([vector.all["meaning"]["user_data"]]), "{name}");
            }
            other => panic!("{name}: {other}"),
        }
    }
}

#[test]
fn fragments_are_put_together_and_cut_up_as_they_were() {
    for vector in vectors("transport") {
        let name = &vector.name;
        let (found, is_broken) = frames(&vector.octets);
        assert!(!is_broken, "{name}");
        let (mut assembler, mut fragments, mut errors) = (Assembler::new(MOST), Vec::new(), 0);
        for frame in &found {
            match assembler.push(&frame.user_data) {
                Ok(fragment) => fragments.extend(fragment),
                Err(_) => errors += 1,
            }
        }
        let fragments: Vec<_> = fragments.iter().map(hex::encode).collect();
        let wanted = &vector.all["meaning"]["fragment"];
        match vector.expect.as_str() {
            "" => {
                assert_eq!(json!(fragments), json!([wanted]), "{name}");
                assert_eq!(errors, 0, "{name}");
                let first = found[0].user_data[0] & 0x3F;
                let mut splitter = Splitter::default();
                (0..first).for_each(|_| drop(splitter.split(&[0])));
                let segments = splitter.split(&hex::decode(&fragments[0]).unwrap());
                let sent: Vec<_> = found.iter().map(|frame| frame.user_data.clone()).collect();
                assert_eq!(segments, sent, "{name}");
            }
            "error" => assert!(fragments.is_empty() && errors > 0, "{name}: {fragments:?}"),
            "incomplete" => assert!(fragments.is_empty() && errors == 0, "{name}"),
            "resync" => assert_eq!(json!(fragments), json!([wanted]), "{name}"),
            other => panic!("{name}: {other}"),
        }
    }
}

fn number(number: Number) -> Value {
    match number {
        Number::Uint16(number) => json!(number),
        Number::Uint32(number) => json!(number),
        Number::Int16(number) => json!(number),
        Number::Int32(number) => json!(number),
        Number::Float32(_) | Number::Float64(_) => match number.as_f64() {
            number if number.is_nan() => json!("NaN"),
            number if number.is_infinite() => json!(if number > 0.0 { "Infinity" } else { "-Infinity" }),
            number => json!(number),
        },
    }
}

fn kind(block: &Block) -> PointKind {
    match block.variation.group {
        1 | 2 => PointKind::Binary,
        3 | 4 => PointKind::DoubleBit,
        10 | 11 => PointKind::BinaryOutput,
        20 | 22 => PointKind::Counter,
        21 | 23 => PointKind::FrozenCounter,
        40 | 42 => PointKind::AnalogOutput,
        _ => PointKind::Analog,
    }
}

fn point(block: &Block, entry: &Entry, measured: Option<&Measurement>) -> Value {
    let mut point = Map::new();
    let mut put = |key: &str, value: Value| drop(point.insert(key.to_owned(), value));
    // A pattern and a delay have none of their own.
    if let Some(index) = entry.index {
        put("index", json!(index));
    }
    let quality = |flags: &Option<Flags>, time: &ObjectTime| {
        let mut quality = Map::new();
        if let Some(flags) = flags {
            let words = flags.words(kind(block)).map(|word| word.replace(' ', "_"));
            quality.insert("flags".to_owned(), json!(flags.0));
            quality.insert("flag_names".to_owned(), json!(words.collect::<Vec<_>>()));
        }
        if let ObjectTime::Relative(offset) = time {
            quality.insert("time_offset_ms".to_owned(), json!(offset));
        }
        if let Some(time) = measured.and_then(|measured| measured.time) {
            quality.insert("time".to_owned(), json!(time.millis));
        }
        quality
    };
    match &entry.object {
        Object::Named => {}
        Object::State { state, flags, time } => {
            point.extend(quality(flags, time));
            point.insert("value".to_owned(), json!(state));
            assert_eq!(measured.unwrap().value, MeasuredValue::State(*state));
        }
        Object::DoubleBit { state, flags, time } => {
            point.extend(quality(flags, time));
            let word = match state {
                DoubleBit::Intermediate => "intermediate",
                DoubleBit::Off => "determined_off",
                DoubleBit::On => "determined_on",
                DoubleBit::Indeterminate => "indeterminate",
            };
            point.insert("value".to_owned(), json!(word));
        }
        Object::Measured { number: value, flags, time } => {
            point.extend(quality(flags, time));
            point.insert("value".to_owned(), number(*value));
        }
        Object::Control(control) => {
            let operation = match control.operation {
                Operation::Nul => "nul",
                Operation::PulseOn => "pulse_on",
                Operation::PulseOff => "pulse_off",
                Operation::LatchOn => "latch_on",
                Operation::LatchOff => "latch_off",
                Operation::Other(_) => "other",
            };
            let pair = match control.trip_close {
                TripClose::Nul => "nul",
                TripClose::Close => "close",
                TripClose::Trip => "trip",
                TripClose::Reserved => "reserved",
            };
            put("code", json!(control.code()));
            put("operation", json!(operation));
            put("trip_close", json!(pair));
            put("clear", json!(control.clears));
            put("count", json!(control.count));
            put("on_ms", json!(control.on_time));
            put("off_ms", json!(control.off_time));
            put("status", json!(control.status.0));
        }
        Object::Setting { number: value, status } => {
            put("value", number(*value));
            put("status", json!(status.0));
        }
        Object::ControlEvent { state, status, time } => {
            point.extend(absolute(time));
            point.insert("value".to_owned(), json!(state));
            point.insert("status".to_owned(), json!(status.0));
        }
        Object::SettingEvent { number: value, status, time } => {
            point.extend(absolute(time));
            point.insert("value".to_owned(), number(*value));
            point.insert("status".to_owned(), json!(status.0));
        }
        Object::Deadband(value) => put("value", number(*value)),
        Object::Bit(bit) => put("value", json!(bit)),
        Object::Time(time) => put("time", json!(time)),
        Object::Delay(span) => put("delay_ms", json!(span)),
        Object::Octets(octets) if matches!(block.qualifier.prefix, Prefix::Size(_)) => {
            put("size", json!(octets.len()));
            put("raw", json!(hex::encode(octets)));
        }
        Object::Octets(octets) => {
            put("octets", json!(hex::encode(octets)));
            put("text", json!(octets.iter().copied().map(char::from).collect::<String>()));
        }
        other => panic!("{other:?}"),
    }
    Value::Object(point)
}

fn absolute(time: &ObjectTime) -> Map<String, Value> {
    match time {
        ObjectTime::Absolute(time) => Map::from_iter([("time".to_owned(), json!(time))]),
        _ => Map::new(),
    }
}

/// The octet of a qualifier, as it was sent.
fn qualifier(block: &Block) -> String {
    let mut octets = Vec::new();
    Block { entries: Vec::new(), ..block.clone() }.encode(&mut octets).unwrap();
    hex::encode(&octets[2..3])
}

fn objects(blocks: &[Block], mut measured: impl Iterator<Item = Measurement>) -> Value {
    let of_block = |block: &Block| {
        let mut told = json!({
            "group": block.variation.group,
            "variation": block.variation.variation,
            "qualifier": qualifier(block),
        });
        let all = told.as_object_mut().unwrap();
        match block.selection {
            Selection::All => {}
            Selection::Range { start, stop } => {
                all.insert("start".to_owned(), json!(start));
                all.insert("stop".to_owned(), json!(stop));
            }
            Selection::Count(count) => drop(all.insert("count".to_owned(), json!(count))),
        }
        if !block.entries.is_empty() {
            let is_point = |entry: &Entry| {
                matches!(entry.object, Object::State { .. } | Object::DoubleBit { .. } | Object::Measured { .. })
                    || matches!((&entry.object, entry.index), (Object::Octets(_), Some(_)))
            };
            let points = block.entries.iter().map(|entry| {
                let measured = is_point(entry).then(|| measured.next()).flatten();
                point(block, entry, measured.as_ref())
            });
            let points: Vec<_> = points.collect();
            all.insert("points".to_owned(), json!(points));
        }
        told
    };
    Value::Array(blocks.iter().map(of_block).collect())
}

/// What a fragment means, and its octets made anew.
fn understood(vector: &Vector) -> Result<(Value, Vec<u8>), String> {
    let (control, function, blocks, indications, octets) = if vector.is_response {
        let response = Response::decode(&vector.octets).map_err(|error| error.to_string())?;
        let function = if response.header.control.is_unsolicited { 130 } else { 129 };
        let objects = objects(&response.blocks, response.measurements());
        (response.header.control, function, objects, Some(response.header.indications), response.encode())
    } else {
        let request = Request::decode(&vector.octets).map_err(|error| error.to_string())?;
        // What a request says of points is said by their objects alone.
        let header = interlex_dnp3::ResponseHeader { control: request.control, indications: Default::default() };
        let told = Response { header, blocks: request.blocks.clone() };
        let objects = objects(&request.blocks, told.measurements());
        (request.control, request.function.0, objects, None, request.encode())
    };
    let mut meaning = json!({
        "function_code": function,
        "fir": control.is_first,
        "fin": control.is_final,
        "con": control.wants_confirm,
        "uns": control.is_unsolicited,
        "sequence": control.sequence,
        "objects": blocks,
    });
    if let Some(indications) = indications {
        let words: Vec<_> = indications.words().map(|word| word.replace([' ', '.'], "_")).collect();
        let all = meaning.as_object_mut().unwrap();
        all.insert("iin".to_owned(), json!(words));
        all.insert("iin_hex".to_owned(), json!(hex::encode(indications.0.to_le_bytes())));
    }
    Ok((meaning, octets.map_err(|error| error.to_string())?))
}

/// Errors that only whoever asked can see: they are the master's and the outstation's.
const OF_A_CONVERSATION: [&str; 6] = [
    "bad-app-other-sequence",
    "bad-app-second-fragment-without-first",
    "bad-app-control-status-differs-in-echo",
    "bad-app-echo-without-objects",
    "bad-app-echo-of-other-index",
    "bad-app-request-not-first-fragment",
];

#[test]
fn fragments_mean_what_they_should_and_are_made_as_they_were() {
    for vector in vectors("app") {
        let name = &vector.name;
        let understood = understood(&vector);
        match vector.expect.as_str() {
            "time_invalid" => {
                let told: Vec<_> = Response::decode(&vector.octets).unwrap().measurements().collect();
                assert!(told.len() == 1 && told[0].time.is_none(), "{name}: {told:?}");
            }
            "" => {
                let (meaning, octets) = understood.unwrap_or_else(|error| panic!("{name}: {error}"));
                let mut wanted = vector.all["meaning"].clone();
                wanted.as_object_mut().unwrap().remove("function");
                assert_eq!(meaning, wanted, "{name}");
                assert_eq!(hex::encode(octets), hex::encode(&vector.octets), "{name}");
            }
            _ if OF_A_CONVERSATION.contains(&name.as_str()) => assert!(understood.is_ok(), "{name}"),
            "error" => {
                let objection = Request::decode(&vector.octets).ok().and_then(|request| request.objection());
                match vector.all["answer_iin"].as_str() {
                    Some("parameter_error") => assert!(understood.is_err(), "{name}"),
                    Some(answer) => {
                        let objection = objection.unwrap_or_else(|| panic!("{name}: nothing against it"));
                        let words = objection.to_string().replace(' ', "_");
                        assert_eq!(words, answer, "{name}");
                    }
                    None => assert!(understood.is_err(), "{name}: {understood:?}"),
                }
            }
            other => panic!("{name}: {other}"),
        }
    }
    assert!(FunctionCode(0x70).words().is_none());
}
