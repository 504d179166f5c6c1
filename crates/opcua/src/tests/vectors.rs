//! Bytes of independent implementations.

use super::meaning::{agrees, known, meaning, scalar, type_number};
use crate::codec::{Binary, Limits};
use crate::service::{MessageError, Request, Response};
use crate::transport::{
    Acknowledge, AsymmetricHeader, ErrorMessage, Frame, FrameDecoder, Hello, MessageType, SequenceHeader,
};
use crate::types::{ExtensionObject, Scalar, Variant};
use crate::{DecodeError, Reader};
use serde_json::{Value, json};

fn vectors() -> impl Iterator<Item = Value> {
    include_str!("../../tests/vectors/opcua.jsonl").lines().map(|line| serde_json::from_str(line).unwrap())
}

fn text<'a>(vector: &'a Value, key: &str) -> &'a str {
    vector[key].as_str().unwrap_or_default()
}

fn bytes(vector: &Value) -> Vec<u8> {
    hex::decode(text(vector, "hex")).unwrap()
}

fn is_bad(vector: &Value) -> bool {
    vector["expect"] == "error"
}

/// A value of a built-in type, as one of any type.
fn decode(type_name: &str, bytes: &[u8]) -> Result<Variant, DecodeError> {
    let number = type_number(type_name).unwrap();
    if type_name == "Variant" {
        return Variant::from_bytes(bytes);
    }
    Variant::from_bytes(&[&[number], bytes].concat()).map_err(|error| DecodeError { at: error.at - 1, ..error })
}

/// The bytes of it alone.
fn encode(type_name: &str, value: &Variant) -> Vec<u8> {
    let bytes = value.to_bytes();
    if type_name == "Variant" { bytes } else { bytes[1..].to_vec() }
}

#[test]
fn built_in_types_are_read_and_written_as_others_do() {
    let mut count = 0;
    for vector in vectors().filter(|vector| vector["layer"] == "builtin" && !is_bad(vector)) {
        let (name, told) = (text(&vector, "name"), &vector["meaning"]);
        let type_name = text(told, "Type");
        let value = decode(type_name, &bytes(&vector)).unwrap_or_else(|error| panic!("{name}: {error}"));
        let (told, got) = match &value {
            Variant::Scalar(Scalar::ExtensionObject(object)) if type_name == "ExtensionObject" => {
                let (name, body) = known(object).map_or((Value::Null, Value::Null), |(name, body)| (json!(name), body));
                (json!([told["TypeId"], told["TypeName"], told["Body"]]), json!([meaning(&object.type_id), name, body]))
            }
            Variant::Scalar(Scalar::DataValue(value)) if type_name == "DataValue" => {
                let mut got = meaning(&**value);
                got["Type"] = json!("DataValue");
                (told.clone(), got)
            }
            Variant::Scalar(Scalar::DiagnosticInfo(info)) if type_name == "DiagnosticInfo" => {
                let mut got = meaning(&**info);
                got["Type"] = json!("DiagnosticInfo");
                (told.clone(), got)
            }
            Variant::Scalar(value) if type_name != "Variant" => (told["Value"].clone(), scalar(value)),
            other => (told["Value"].clone(), meaning(other)),
        };
        assert!(agrees(&told, &got), "{name}: {told} is told, {got} is read");
        if text(&vector, "checked_by").contains("decode and encode") {
            assert_eq!(hex::encode(encode(type_name, &value)), text(&vector, "hex"), "{name}");
        }
        let again = decode(type_name, &encode(type_name, &value)).unwrap();
        assert_eq!(encode(type_name, &again), encode(type_name, &value), "{name}");
        count += 1;
    }
    assert_eq!(count, 147);
}

#[test]
fn malformed_values_are_refused() {
    let mut count = 0;
    for vector in vectors().filter(|vector| vector["layer"] == "builtin" && is_bad(vector)) {
        let (name, type_name) = (text(&vector, "name"), text(&vector, "decode_as"));
        let value = decode(type_name, &bytes(&vector));
        // The structure within is read when somebody asks for it.
        let value = match value {
            Ok(Variant::Scalar(Scalar::ExtensionObject(object))) => read_range(&object),
            other => other.map(|_| ()),
        };
        assert!(value.is_err(), "{name}: {}", text(&vector, "why"));
        count += 1;
    }
    assert_eq!(count, 32);
}

fn read_range(object: &ExtensionObject) -> Result<(), DecodeError> {
    use crate::structure::{Range, Structure};
    Range::from_object(object).unwrap().map(|_| ())
}

fn frames(bytes: &[u8], most: usize) -> Result<Vec<Frame>, crate::FrameError> {
    let mut decoder = FrameDecoder::new(most);
    // However it is cut up.
    let mut frames = Vec::new();
    for piece in bytes.chunks(7) {
        decoder.push(piece);
        while let Some(frame) = decoder.poll_frame()? {
            frames.push(frame);
        }
    }
    Ok(frames)
}

#[test]
fn a_connection_is_opened_as_others_do() {
    for vector in vectors().filter(|vector| vector["layer"] == "transport" && !is_bad(vector)) {
        let (name, told) = (text(&vector, "name"), &vector["meaning"]);
        let frames = frames(&bytes(&vector), 65536).unwrap();
        let [frame] = frames.as_slice() else { panic!("{name}") };
        let mut got = match frame.message {
            MessageType::Hello => meaning(&Hello::from_bytes(frame.body()).unwrap()),
            MessageType::Acknowledge => meaning(&Acknowledge::from_bytes(frame.body()).unwrap()),
            MessageType::Error => meaning(&ErrorMessage::from_bytes(frame.body()).unwrap()),
            other => panic!("{name}: {other:?}"),
        };
        for key in ["MessageType", "ChunkType", "MessageSize"] {
            got[key] = told[key].clone();
        }
        assert!(agrees(told, &got), "{name}: {got}");
    }
}

/// The body of a message in frames without security.
fn body(frames: &[Frame]) -> Vec<u8> {
    let mut all = Vec::new();
    for frame in frames {
        let mut from = Reader::new(frame.body(), Limits::default());
        u32::decode(&mut from).unwrap();
        match frame.message {
            MessageType::OpenChannel => _ = AsymmetricHeader::decode(&mut from).unwrap(),
            _ => _ = u32::decode(&mut from).unwrap(),
        }
        SequenceHeader::decode(&mut from).unwrap();
        all.extend_from_slice(from.rest());
    }
    all
}

#[test]
fn services_are_read_and_written_as_others_do() {
    let mut count = 0;
    for vector in vectors().filter(|vector| vector["layer"] == "message" && !is_bad(vector)) {
        let (name, told) = (text(&vector, "name"), &vector["meaning"]);
        if told.get("Abort").is_some() {
            continue;
        }
        let body = body(&frames(&bytes(&vector), 65536).unwrap());
        let (got, service, again) = if vector["direction"] == "request" {
            let message =
                Request::from_bytes(&body, Limits::default()).unwrap_or_else(|error| panic!("{name}: {error}"));
            (meaning(&message), message.name(), message.to_bytes())
        } else {
            let message =
                Response::from_bytes(&body, Limits::default()).unwrap_or_else(|error| panic!("{name}: {error}"));
            (meaning(&message), message.name(), message.to_bytes())
        };
        assert_eq!(told["Service"], service, "{name}");
        assert!(agrees(&told["Body"], &got), "{name}:\n{}\nis told,\n{got}\nis read", told["Body"]);
        let reread = if vector["direction"] == "request" {
            meaning(&Request::from_bytes(&again, Limits::default()).unwrap())
        } else {
            meaning(&Response::from_bytes(&again, Limits::default()).unwrap())
        };
        assert_eq!(reread, got, "{name}");
        count += 1;
    }
    assert!(count > 50, "{count}");
}

#[test]
fn malformed_frames_and_bodies_are_refused() {
    let mut count = 0;
    for vector in vectors().filter(is_bad) {
        let (name, bytes) = (text(&vector, "name"), bytes(&vector));
        match (text(&vector, "layer"), text(&vector, "decode_as")) {
            ("transport", "frame") => {
                // One that is cut off by the end of the connection is never whole.
                let refused = frames(&bytes, 65536);
                let is_first_word = |frame: &Frame| frame.message == MessageType::Hello;
                assert!(refused.as_ref().map_or(true, |frames| !frames.iter().any(is_first_word)), "{name}");
                assert_eq!(refused.is_ok(), name.contains("cut-inside") || name.contains("msg-before-hello"), "{name}");
            }
            ("transport", "tcp") => {
                let frames = frames(&bytes, 65536).unwrap();
                let hello = Hello::from_bytes(frames[0].body());
                assert!(hello.is_err() || name.contains("buffer-too-small"), "{name}");
            }
            ("message", "body") => {
                let request = Request::from_bytes(&bytes, Limits::default());
                let is_unknown = name.contains("type-id");
                assert_eq!(matches!(request, Err(MessageError::Unknown(_))), is_unknown, "{name}");
                assert!(request.is_err(), "{name}");
            }
            _ => continue,
        }
        count += 1;
    }
    assert_eq!(count, 16);
}

#[test]
fn frames_that_may_not_come_end_the_channel() {
    use crate::channel::{ServerChannel, ServerChannelConfig, ServerChannelEvent, TransportLimits};
    use crate::security::SecurityPolicy;
    use crate::service::MessageSecurityMode;
    use crate::transport::{ChunkType, encode_frame};
    use crate::types::DateTime;
    use std::time::{Duration, Instant};

    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    let now = Instant::now();
    let mut count = 0;
    for vector in vectors().filter(|vector| is_bad(vector) && vector["decode_as"] == "frame") {
        let name = text(&vector, "name");
        let config = ServerChannelConfig {
            channel: 5,
            own: None,
            security: vec![(SecurityPolicy::None, MessageSecurityMode::None)],
            limits: TransportLimits::default(),
            longest_token: Duration::from_secs(3600),
            timeout: Duration::from_secs(10),
        };
        let mut server = ServerChannel::new(config, now);
        match vector["context"]["side"].as_str().unwrap() {
            "server, waiting for HEL" => {}
            "server, after HEL and ACK" => {
                let (mut bytes, hello) = (Vec::new(), TransportLimits::default().hello("opc.tcp://localhost"));
                encode_frame(MessageType::Hello, ChunkType::Final, &hello.to_bytes(), &mut bytes);
                server.handle_input(now, DateTime::NONE, &bytes);
            }
            _ if vector["layer"] == "security" => continue,
            _ => server.skip_to((5, 13), 100, now),
        }
        server.handle_input(now, DateTime::NONE, &bytes(&vector));
        let closed = std::iter::from_fn(|| server.poll_event())
            .any(|event| matches!(event, ServerChannelEvent::Closed(Some(_))));
        // What is cut off by the end of the connection is waited for.
        assert_eq!(closed, name != "malformed-hello-cut-inside-size", "{name}");
        count += 1;
    }
    assert_eq!(count, 19);
}

mod secured {
    use super::{bytes, frames, is_bad, text, vectors};
    use crate::Binary;
    use crate::security::{
        DerivedKeys, OpenedChunk, PrivateKey, Sealing, SecurityPolicy, derive_keys, open_asymmetric, open_symmetric,
        public_key, seal_asymmetric, seal_symmetric, thumbprint,
    };
    use crate::service::MessageSecurityMode;
    use crate::transport::{AsymmetricHeader, Frame};
    use crate::{DecodeError, Reader};
    use serde_json::Value;

    fn unhex(value: &Value) -> Vec<u8> {
        hex::decode(value.as_str().unwrap()).unwrap()
    }

    fn of(vector: &Value) -> (SecurityPolicy, MessageSecurityMode) {
        let policy = SecurityPolicy::from_uri(text(vector, "SecurityPolicyUri")).unwrap();
        let is_sign = vector["SecurityMode"] == "Sign";
        (policy, if is_sign { MessageSecurityMode::Sign } else { MessageSecurityMode::SignAndEncrypt })
    }

    fn keys(value: &Value) -> DerivedKeys {
        DerivedKeys {
            signing: unhex(&value["SigningKey"]),
            encrypting: unhex(&value["EncryptingKey"]),
            initialization_vector: unhex(&value["InitializationVector"]).try_into().unwrap(),
        }
    }

    fn good(layer: &str) -> impl Iterator<Item = Value> {
        vectors().filter(move |vector| text(vector, "name").starts_with(layer) && !is_bad(vector))
    }

    /// The frame header, the channel and the token stand before what is encrypted.
    const HEAD: usize = 16;

    fn only(bytes: &[u8]) -> Frame {
        frames(bytes, 65536).unwrap().remove(0)
    }

    #[test]
    fn keys_are_derived_as_others_do() {
        let mut count = 0;
        for vector in good("key-derivation") {
            let told = &vector["meaning"];
            let got = derive_keys(of(told).0, &unhex(&told["Secret"]), &unhex(&told["Seed"]));
            assert_eq!(got, keys(told), "{}", vector["name"]);
            count += 1;
        }
        assert_eq!(count, 12);
        let vector = good("p-sha256").next().unwrap();
        assert_eq!(crate::security::p_sha256(b"secret", b"seed", 100), bytes(&vector));
    }

    #[test]
    fn messages_are_opened_and_sealed_as_others_do() {
        let mut count = 0;
        for vector in good("symmetric") {
            let (name, told, bytes) = (text(&vector, "name"), &vector["meaning"], bytes(&vector));
            let ((_, mode), keys) = (of(told), keys(&told["SenderKeys"]));
            let (mut body, mut again, mut numbers) = (Vec::new(), Vec::new(), Vec::new());
            for frame in frames(&bytes, 65536).unwrap() {
                let opened = open_symmetric(frame.clone(), HEAD, mode, &keys).unwrap();
                assert_eq!(told["RequestId"].as_u64(), Some(opened.request_id.into()), "{name}");
                let sealing = Sealing {
                    message: frame.message,
                    chunk: frame.chunk,
                    head: &frame.bytes[8..HEAD],
                    sequence_number: opened.sequence_number,
                    request_id: opened.request_id,
                    body: &opened.body,
                };
                let mut sealed = Vec::new();
                seal_symmetric(&sealing, mode, &keys, &mut sealed).unwrap();
                assert_eq!(open_symmetric(only(&sealed), HEAD, mode, &keys).unwrap(), opened, "{name}");
                again.extend_from_slice(&sealed);
                body.extend_from_slice(&opened.body);
                numbers.push(opened.sequence_number);
            }
            assert_eq!(body, unhex(&told["BodyHex"]), "{name}");
            let told_numbers =
                told.get("SequenceNumbers").cloned().unwrap_or_else(|| serde_json::json!([told["SequenceNumber"]]));
            assert_eq!(told_numbers, serde_json::json!(numbers), "{name}");
            // A sender may pad with more.
            if told["Note"].is_null() {
                assert_eq!(hex::encode(&again), text(&vector, "hex"), "{name}");
            }
            count += 1;
        }
        assert_eq!(count, 7);
    }

    /// How many bytes stand before what is encrypted, and who sends it.
    fn head(frame: &Frame) -> Result<(usize, AsymmetricHeader), DecodeError> {
        let mut from = Reader::new(frame.body(), crate::Limits::default());
        u32::decode(&mut from)?;
        let header = AsymmetricHeader::decode(&mut from)?;
        Ok((frame.bytes.len() - from.rest().len(), header))
    }

    #[test]
    fn channels_are_opened_as_others_do() {
        let mut count = 0;
        for vector in good("asymmetric") {
            let (name, told) = (text(&vector, "name"), &vector["meaning"]);
            let policy = of(told).0;
            let own = PrivateKey::from_pem(text(told, "ReceiverPrivateKey")).unwrap();
            let frame = only(&bytes(&vector));
            let (head, header) = head(&frame).unwrap();
            let sender = header.sender_certificate.as_bytes();
            assert_eq!(sender, unhex(&told["SenderCertificate"]), "{name}");
            let receiver = unhex(&told["ReceiverCertificate"]);
            assert_eq!(header.receiver_certificate_thumbprint.as_bytes(), thumbprint(&receiver), "{name}");
            let opened = open_asymmetric(&frame, head, policy, (&own, &public_key(sender).unwrap())).unwrap();
            assert_eq!(opened.body, unhex(&told["BodyHex"]), "{name}");
            assert_eq!(told["SequenceNumber"].as_u64(), Some(opened.sequence_number.into()), "{name}");
            // Back again, to ourselves: nobody gave us the sender's key.
            let sealing = Sealing {
                message: frame.message,
                chunk: frame.chunk,
                head: &frame.bytes[8..head],
                sequence_number: opened.sequence_number,
                request_id: opened.request_id,
                body: &opened.body,
            };
            let mut again = Vec::new();
            seal_asymmetric(&sealing, policy, (&own, &own.public()), &mut again).unwrap();
            let reopened = open_asymmetric(&only(&again), head, policy, (&own, &own.public()));
            assert_eq!(reopened, Ok(OpenedChunk { ..opened }), "{name}");
            count += 1;
        }
        assert_eq!(count, 5);
    }

    #[test]
    fn secrets_and_signatures_are_those_of_others() {
        for vector in good("password") {
            let told = &vector["meaning"];
            let own = PrivateKey::from_pem(text(told, "ReceiverPrivateKey")).unwrap();
            assert_eq!(own.decrypt(of(told).0, &bytes(&vector)).unwrap(), unhex(&told["PlainText"]));
            assert_eq!(of(told).0.encryption_uri(), told["EncryptionAlgorithm"].as_str());
        }
        for vector in good("client-signature") {
            let told = &vector["meaning"];
            let signed = [unhex(&told["ServerCertificate"]), unhex(&told["ServerNonce"])].concat();
            let key = public_key(&unhex(&told["SignerCertificate"])).unwrap();
            key.verify(of(told).0, &signed, &bytes(&vector)).unwrap();
            key.verify(of(told).0, &signed[1..], &bytes(&vector)).unwrap_err();
            assert_eq!(of(told).0.signature_uri(), told["Algorithm"].as_str());
        }
        let vector = good("certificate-thumbprint").next().unwrap();
        let certificate = unhex(&vector["meaning"]["Certificate"]);
        assert_eq!(hex::encode(thumbprint(&certificate)), text(&vector, "hex"));
        assert_eq!(thumbprint(&[certificate.as_slice(), &[1, 2, 3]].concat()), thumbprint(&certificate), "the leaf's");
    }

    #[test]
    fn messages_that_are_not_secured_as_agreed_are_refused_and_look_alike() {
        let mut count = 0;
        for vector in vectors().filter(|vector| is_bad(vector) && vector["layer"] == "security") {
            let (name, context) = (text(&vector, "name"), &vector["context"]);
            if context.get("SenderKeys").is_none() {
                continue;
            }
            let opened = open_symmetric(only(&bytes(&vector)), HEAD, of(context).1, &keys(&context["SenderKeys"]));
            assert_eq!(opened, Err(crate::SecurityError), "{name}");
            count += 1;
        }
        assert_eq!(count, 8);
    }
}
