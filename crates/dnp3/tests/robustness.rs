//! Octets of anybody, and fragments of our own.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_dnp3::{
    Assembler, Block, CommandStatus, Control, ControlRelayOutputBlock, DoubleBit, Flags, Frame, FrameReader,
    FunctionCode, Indications, LinkAddress, LinkFunction, Number, Object, ObjectTime, Request, Response,
    ResponseHeader, Sender, Splitter, Variation,
};
use proptest::prelude::*;

fn times() -> impl Strategy<Value = (u8, ObjectTime)> {
    prop_oneof![
        Just((0, ObjectTime::None)),
        (0_u64..1 << 48).prop_map(|time| (1, ObjectTime::Absolute(time))),
        any::<u16>().prop_map(|offset| (2, ObjectTime::Relative(offset))),
    ]
}

/// Objects of one variation.
fn objects() -> impl Strategy<Value = (Variation, Object)> {
    let flags = || any::<u8>().prop_map(|flags| Some(Flags(flags & 0x3F)));
    let plain = Variation::new;
    prop_oneof![
        (any::<bool>(), flags(), times()).prop_map(move |(state, flags, (form, time))| {
            (plain(2, form + 1), Object::State { state, flags, time })
        }),
        (0_usize..4, flags(), times()).prop_map(move |(state, flags, (form, time))| {
            let all = [DoubleBit::Intermediate, DoubleBit::Off, DoubleBit::On, DoubleBit::Indeterminate];
            (plain(4, form + 1), Object::DoubleBit { state: all[state], flags, time })
        }),
        (any::<u32>(), flags()).prop_map(move |(number, flags)| {
            (plain(22, 1), Object::Measured { number: Number::Uint32(number), flags, time: ObjectTime::None })
        }),
        (any::<i16>(), flags(), 0_u64..1 << 48).prop_map(move |(number, flags, time)| {
            let (number, time) = (Number::Int16(number), ObjectTime::Absolute(time));
            (plain(32, 4), Object::Measured { number, flags, time })
        }),
        (any::<f64>(), flags()).prop_filter("equal to itself", |(number, _)| !number.is_nan()).prop_map(
            move |(number, flags)| {
                (plain(30, 6), Object::Measured { number: Number::Float64(number), flags, time: ObjectTime::None })
            }
        ),
        (any::<[u8; 2]>(), any::<[u32; 2]>(), 0_u8..128).prop_map(
            move |([code, count], [on_time, off_time], status)| {
                let status = CommandStatus(status);
                let block = ControlRelayOutputBlock { count, on_time, off_time, status, ..Default::default() };
                (plain(12, 1), Object::Control(block.with_code(code)))
            }
        ),
        prop::collection::vec(any::<u8>(), 1..20)
            .prop_map(move |octets| { (plain(110, u8::try_from(octets.len()).unwrap()), Object::Octets(octets)) }),
        any::<bool>().prop_map(move |bit| (plain(80, 1), Object::Bit(bit))),
    ]
}

fn blocks() -> impl Strategy<Value = Block> {
    (objects(), prop::collection::vec(0_u32..70_000, 1..5), any::<bool>()).prop_map(
        |((variation, object), indices, in_a_row)| {
            // What is packed has no index of its own.
            if in_a_row || variation.group == 80 {
                Block::in_a_row(variation, indices[0], indices.iter().map(|_| object.clone()))
            } else {
                Block::indexed(variation, indices.into_iter().map(|index| (index, object.clone())))
            }
        },
    )
}

proptest! {
    #[test]
    fn what_is_said_is_understood(blocks in prop::collection::vec(blocks(), 0..6), bits in any::<u16>(), first in any::<u8>()) {
        let control = Control {
            is_first: first & 1 != 0,
            is_final: first & 2 != 0,
            wants_confirm: first & 4 != 0,
            is_unsolicited: first & 8 != 0,
            sequence: first >> 4,
        };
        let header = ResponseHeader { control, indications: Indications(bits) };
        let response = Response { header, blocks: blocks.clone() };
        prop_assert_eq!(Response::decode(&response.encode().unwrap()), Ok(response));
        let request = Request { control, function: FunctionCode::WRITE, blocks };
        prop_assert_eq!(Request::decode(&request.encode().unwrap()), Ok(request));
    }

    #[test]
    fn fragments_come_through_whatever_the_line_adds(
        fragment in prop::collection::vec(any::<u8>(), 1..1500), cuts in prop::collection::vec(1_usize..50, 1..20),
        noise in prop::collection::vec(any::<u8>().prop_filter("no start", |octet| *octet != 5), 0..40),
    ) {
        let mut splitter = Splitter::default();
        let mut octets = noise.clone();
        for user_data in splitter.split(&fragment) {
            let frame = Frame {
                sender: Sender::Outstation,
                function: LinkFunction::UnconfirmedUserData,
                destination: LinkAddress(1),
                source: LinkAddress(10),
                user_data,
            };
            frame.encode(&mut octets);
            octets.extend_from_slice(&noise);
        }
        let (mut reader, mut assembler, mut found) = (FrameReader::default(), Assembler::new(2048), Vec::new());
        let (mut rest, mut cuts) = (octets.as_slice(), cuts.iter().cycle());
        while !rest.is_empty() {
            let (part, after) = rest.split_at((*cuts.next().unwrap()).min(rest.len()));
            rest = after;
            reader.push(part);
            while let Some(frame) = reader.next_frame() {
                found.extend(assembler.push(&frame.unwrap().user_data).unwrap());
            }
        }
        prop_assert_eq!(found, [fragment]);
    }

    #[test]
    fn a_changed_octet_is_no_frame(data in prop::collection::vec(any::<u8>(), 1..60), at in any::<prop::sample::Index>(), bits in 1_u8..) {
        let frame = Frame {
            sender: Sender::Master,
            function: LinkFunction::UnconfirmedUserData,
            destination: LinkAddress(10),
            source: LinkAddress(1),
            user_data: data,
        };
        let mut octets = Vec::new();
        frame.encode(&mut octets);
        let at = at.index(octets.len());
        octets[at] ^= bits;
        let mut reader = FrameReader::default();
        reader.push(&octets);
        while let Some(found) = reader.next_frame() {
            prop_assert!(found.is_err(), "{:?}", found);
        }
    }

    #[test]
    fn octets_of_anybody_are_survived(octets in prop::collection::vec(any::<u8>(), 0..600), group in any::<u8>()) {
        let mut reader = FrameReader::default();
        reader.push(&octets);
        while let Some(found) = reader.next_frame() {
            drop(found);
        }
        prop_assert!(reader.waiting() <= 292 || octets.len() < 292);
        _ = Request::decode(&octets);
        let start = [&[0xC0, 0x81, 0, 0, group], octets.as_slice()].concat();
        if let Ok(response) = Response::decode(&start) {
            prop_assert!(response.measurements().count() <= 8 * start.len());
            prop_assert!(response.encode().is_ok());
        }
    }

    #[test]
    fn broken_fragments_of_ours_are_survived(blocks in prop::collection::vec(blocks(), 1..4), at in any::<prop::sample::Index>(), octet in any::<u8>(), cut in any::<prop::sample::Index>()) {
        let header = ResponseHeader { control: Control::request(3), indications: Indications::NONE };
        let mut octets = Response { header, blocks }.encode().unwrap();
        let at = at.index(octets.len());
        octets[at] = octet;
        octets.truncate(cut.index(octets.len()) + 1);
        if let Ok(response) = Response::decode(&octets) {
            prop_assert!(response.encode().is_ok());
        }
        _ = Request::decode(&octets);
    }
}

#[test]
fn what_is_only_named_is_written_as_it_was_read_whatever_its_objects_are() {
    // A freeze of packed double bits, which make no sense together, and are for the outstation to refuse.
    let frozen: &[u8] = &[0x3D, 0x07, 0x03, 0x01, 0x27, 0x03, 0x01, 0x00, 0x41, 0x25, 0x29, 0x60];
    // Packed states behind their size, which is no better.
    let sized: &[u8] = &[0x01, 0x0F, 0x01, 0x01, 0x5B, 0x01, 0x01, 0x00, 0x3D];
    for octets in [frozen, sized] {
        assert_eq!(Request::decode(octets).unwrap().encode().unwrap(), octets);
    }
}
