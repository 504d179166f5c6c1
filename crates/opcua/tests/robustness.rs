//! Whatever others send, and however it is cut up.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "tests")]

use interlex_opcua::{
    Array, Binary, ByteString, ChunkType, DataValue, DateTime, DiagnosticInfo, ExpandedNodeId, Fault, FrameDecoder,
    Guid, Identifier, Limits, LocalizedText, MessageType, Namespace, NodeId, QualifiedName, Request, Response, Scalar,
    StatusCode, Variant, encode_frame,
};
use proptest::prelude::*;

fn texts() -> impl Strategy<Value = Option<String>> {
    prop::option::of(".{0,12}")
}

fn identifiers() -> impl Strategy<Value = Identifier> {
    prop_oneof![
        any::<u32>().prop_map(Identifier::Numeric),
        (0_u32..300).prop_map(Identifier::Numeric),
        ".{0,12}".prop_map(Identifier::Text),
        any::<[u8; 16]>().prop_map(|bytes| Identifier::Guid(Guid(bytes))),
        prop::collection::vec(any::<u8>(), 0..12).prop_map(Identifier::Opaque),
    ]
}

fn namespaces() -> impl Strategy<Value = u16> {
    prop_oneof![0_u16..3, any::<u16>()]
}

fn nodes() -> impl Strategy<Value = NodeId> {
    (namespaces(), identifiers()).prop_map(|(namespace, identifier)| NodeId { namespace, identifier })
}

fn expanded() -> impl Strategy<Value = ExpandedNodeId> {
    let namespace = prop_oneof![namespaces().prop_map(Namespace::Index), "[a-z:;%]{1,9}".prop_map(Namespace::Uri)];
    (0_u32..3, namespace, identifiers()).prop_map(|(server, namespace, identifier)| ExpandedNodeId {
        server,
        namespace,
        identifier,
    })
}

fn scalars() -> impl Strategy<Value = Scalar> {
    prop_oneof![
        any::<bool>().prop_map(Scalar::Boolean),
        any::<i8>().prop_map(Scalar::SByte),
        any::<u16>().prop_map(Scalar::UInt16),
        any::<i32>().prop_map(Scalar::Int32),
        any::<u64>().prop_map(Scalar::UInt64),
        any::<f32>().prop_filter("equals itself", |number| !number.is_nan()).prop_map(Scalar::Float),
        texts().prop_map(Scalar::String),
        any::<i64>().prop_map(|steps| Scalar::DateTime(DateTime(steps))),
        prop::option::of(prop::collection::vec(any::<u8>(), 0..9))
            .prop_map(|bytes| Scalar::ByteString(ByteString(bytes))),
        nodes().prop_map(Scalar::NodeId),
        expanded().prop_map(|node| Scalar::ExpandedNodeId(node.into())),
        any::<u32>().prop_map(|status| Scalar::StatusCode(StatusCode(status))),
        (any::<u16>(), texts()).prop_map(|(namespace, name)| Scalar::QualifiedName(QualifiedName { namespace, name })),
        (texts(), texts()).prop_map(|(locale, text)| Scalar::LocalizedText(LocalizedText { locale, text }.into())),
    ]
}

fn variants() -> impl Strategy<Value = Variant> {
    let leaf = prop_oneof![
        Just(Variant::Null),
        scalars().prop_map(Variant::Scalar),
        prop::collection::vec(any::<i16>(), 0..9).prop_map(|numbers| Variant::Array(Array::Int16(numbers))),
        prop::collection::vec(texts(), 6).prop_map(|texts| Variant::Matrix(Array::String(texts), vec![3, 2])),
    ];
    leaf.prop_recursive(4, 32, 4, |inner| {
        let times = (prop::option::of(any::<u32>()), prop::option::of(any::<i64>()), prop::option::of(any::<u16>()));
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(|values| Variant::Array(Array::Variant(values))),
            (prop::option::of(inner), times).prop_map(|(value, (status, time, picoseconds))| {
                let value = DataValue {
                    value,
                    status: status.map(StatusCode),
                    source_time: time.map(DateTime),
                    source_picoseconds: picoseconds,
                    ..DataValue::default()
                };
                Variant::Scalar(Scalar::DataValue(value.into()))
            }),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn values_come_back_as_they_were_and_no_part_of_one_is_a_whole_one(value in variants()) {
        let bytes = value.to_bytes();
        prop_assert_eq!(&Variant::from_bytes(&bytes).unwrap(), &value);
        for end in 0..bytes.len() {
            prop_assert!(Variant::from_bytes(&bytes[..end]).is_err(), "{} of {}", end, bytes.len());
        }
    }

    #[test]
    fn nodes_are_read_from_their_texts(node in nodes()) {
        prop_assert_eq!(node.to_string().parse::<NodeId>().unwrap(), node);
    }

    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..200), service in 0_usize..60) {
        _ = Variant::from_bytes(&bytes);
        _ = DataValue::from_bytes(&bytes);
        _ = DiagnosticInfo::from_bytes(&bytes);
        // Behind the head of a service, so that its fields are reached.
        let numbers = [397, 425, 428, 431, 446, 449, 461, 464, 467, 527, 530, 554, 631, 634, 664, 667, 673, 712, 715, 751, 754, 787, 826, 829, 841];
        let mut message = NodeId::numeric(0, numbers[service % numbers.len()]).to_bytes();
        message.extend_from_slice(&bytes);
        if let Ok(request) = Request::from_bytes(&message, Limits::default()) {
            prop_assert!(Request::from_bytes(&request.to_bytes(), Limits::default()).is_ok());
        }
        if let Ok(response) = Response::from_bytes(&message, Limits::default()) {
            prop_assert!(Response::from_bytes(&response.to_bytes(), Limits::default()).is_ok());
        }
    }

    #[test]
    fn any_cut_gives_the_same_frames(bodies in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..40), 1..6), cut in 1_usize..30) {
        let mut bytes = Vec::new();
        for body in &bodies {
            encode_frame(MessageType::Message, ChunkType::Intermediate, body, &mut bytes);
        }
        let (mut decoder, mut got) = (FrameDecoder::new(48), Vec::new());
        for piece in bytes.chunks(cut) {
            decoder.push(piece);
            while let Some(frame) = decoder.poll_frame().unwrap() {
                got.push(frame.body().to_vec());
            }
        }
        prop_assert_eq!(got, bodies);
        prop_assert!(!decoder.is_in_the_middle());
    }
}

#[test]
fn a_byte_on_the_wire_does_not_become_fifty_in_memory_without_end() {
    // An array of variants that say nothing: a byte each.
    let mut bytes = vec![24 | 0x80];
    let count = 1_000_000_i32;
    count.encode(&mut bytes);
    bytes.resize(bytes.len() + usize::try_from(count).unwrap(), 0);
    let error = Variant::from_bytes(&bytes).unwrap_err();
    assert_eq!(error.fault, Fault::TooLarge(Limits::default().memory));
}

#[test]
fn a_hundred_variants_in_each_other_are_read() {
    let mut value = Variant::from(1_i32);
    for _ in 1..100 {
        value = Variant::Array(Array::Variant(vec![value]));
    }
    assert_eq!(Variant::from_bytes(&value.to_bytes()).unwrap(), value);
    let deeper = Variant::Array(Array::Variant(vec![value]));
    assert!(matches!(Variant::from_bytes(&deeper.to_bytes()).unwrap_err().fault, Fault::TooDeep(100)));
}
