//! What a response says of points.

use crate::application::{Block, Entry, Response};
use crate::object::{DoubleBit, Flags, Layout, Number, Object, ObjectTime, Packed, PointKind, layout};

/// What a response says of a point.
#[derive(Debug, Clone, PartialEq)]
pub struct Measurement {
    /// What the point is.
    pub kind: PointKind,
    /// Its index among those.
    pub index: u32,
    /// Its value.
    pub value: MeasuredValue,
    /// How good it is; nothing where that is not told, which means that it is online.
    pub flags: Option<Flags>,
    /// When the value became what it is; nothing where that is not told, or not to be known.
    pub time: Option<EventTime>,
    /// Whether it tells a change, and not how things are.
    pub is_event: bool,
}

/// The value of a point.
#[derive(Debug, Clone, PartialEq)]
pub enum MeasuredValue {
    /// One of two states.
    State(bool),
    /// That of two contacts.
    DoubleBit(DoubleBit),
    /// A number.
    Number(Number),
    /// Octets.
    Octets(Vec<u8>),
}

/// When something was, by the clock of the outstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct EventTime {
    /// In milliseconds since 1970 UTC.
    pub millis: u64,
    /// Whether the outstation has not said that its clock was not set.
    pub is_synchronized: bool,
}

impl Response {
    /// What it says of points, in its order, with the times that come of those that stand before them.
    pub fn measurements(&self) -> impl Iterator<Item = Measurement> {
        let mut common = None;
        self.blocks.iter().flat_map(move |block| {
            common = common_time(block).or(common);
            let (kind, is_event, common) = (kind_of(block), is_event(block.variation.group), common);
            block.entries.iter().filter_map(move |entry| measurement(entry, kind?, is_event, common))
        })
    }
}

/// The moment that the times behind it are told from.
///
/// Source: IEEE 1815-2012, annex A.29 (group 51).
fn common_time(block: &Block) -> Option<EventTime> {
    match (block.variation.group, block.entries.last()) {
        (51, Some(Entry { object: Object::Time(millis), .. })) => {
            Some(EventTime { millis: *millis, is_synchronized: block.variation.variation == 1 })
        }
        _ => None,
    }
}

fn kind_of(block: &Block) -> Option<PointKind> {
    match (layout(block.variation)?, block.variation.group) {
        (Layout::Bits(Packed::Point(kind)) | Layout::State { kind, .. } | Layout::Measured { kind, .. }, _) => {
            Some(kind)
        }
        (Layout::DoubleBits, _) => Some(PointKind::DoubleBit),
        (Layout::Octets(_), 110 | 111) => Some(PointKind::Octets),
        _ => None,
    }
}

const fn is_event(group: u8) -> bool {
    matches!(group, 2 | 4 | 11 | 22 | 23 | 32 | 33 | 42 | 111)
}

fn measurement(entry: &Entry, kind: PointKind, is_event: bool, common: Option<EventTime>) -> Option<Measurement> {
    let (value, flags, time) = match &entry.object {
        Object::State { state, flags, time } => (MeasuredValue::State(*state), *flags, *time),
        Object::DoubleBit { state, flags, time } => (MeasuredValue::DoubleBit(*state), *flags, *time),
        Object::Measured { number, flags, time } => (MeasuredValue::Number(*number), *flags, *time),
        Object::Octets(octets) => (MeasuredValue::Octets(octets.clone()), None, ObjectTime::None),
        _ => return None,
    };
    let time = match time {
        ObjectTime::None => None,
        ObjectTime::Absolute(millis) => Some(EventTime { millis, is_synchronized: true }),
        ObjectTime::Relative(offset) => {
            common.map(|common| EventTime { millis: common.millis + u64::from(offset), ..common })
        }
    };
    Some(Measurement { kind, index: entry.index?, value, flags, time, is_event })
}
