//! What is told when some objects are asked for.

use super::EventClass;
use super::event_buffer::{Event, EventBuffer};
use super::point::{Point, Points, kind_of_group, object, usual};
use crate::application::{Block, Indications, Selection};
use crate::object::{Object, ObjectTime, PointKind, Variation};
use std::collections::{BTreeMap, BTreeSet};

/// Some objects that are told together, with the events that are done with once that is confirmed.
#[derive(Debug)]
pub(super) struct Piece {
    pub(super) block: Block,
    pub(super) events: Vec<u64>,
}

/// So many objects stand in a block at the most: blocks fit fragments well then.
const MOST_OBJECTS: usize = 40;

/// What is told of what was asked for, and what is wrong with that.
pub(super) struct Reading<'a> {
    pub(super) points: &'a Points,
    attributes: &'a BTreeMap<u8, String>,
    pub(super) buffer: &'a EventBuffer,
    pub(super) pieces: Vec<Piece>,
    pub(super) indications: Indications,
    chosen: BTreeSet<u64>,
}

impl<'a> Reading<'a> {
    pub(super) fn new(points: &'a Points, attributes: &'a BTreeMap<u8, String>, buffer: &'a EventBuffer) -> Self {
        let (pieces, indications, chosen) = (Vec::new(), Indications::NONE, BTreeSet::new());
        Self { points, attributes, buffer, pieces, indications, chosen }
    }

    /// One block of the request.
    pub(super) fn ask(&mut self, block: &Block, wall: u64) {
        let Variation { group, variation } = block.variation;
        let most = match block.selection {
            Selection::Count(count) => usize::try_from(count).unwrap_or(usize::MAX),
            _ => usize::MAX,
        };
        match (group, variation, kind_of_group(group)) {
            (60, 1, _) => {
                for kind in KINDS {
                    self.states(kind, &Block::all(kind.group(), 0));
                }
            }
            (60, 2, _) => self.class(EventClass::First, most),
            (60, 3, _) => self.class(EventClass::Second, most),
            (60, 4, _) => self.class(EventClass::Third, most),
            (0, 254, _) => {
                for attribute in self.attributes.keys() {
                    self.attribute(*attribute);
                }
            }
            (0, attribute, _) if self.attributes.contains_key(&attribute) => self.attribute(attribute),
            (50, 1, _) => self.push(Block::plain(block.variation, [Object::Time(wall)])),
            (_, _, Some((kind, true))) => {
                let wanted = (variation != 0 && group != 111).then_some(block.variation);
                self.events(|event| event.kind == kind, wanted, most);
            }
            (_, _, Some((kind, false))) => self.states(kind, block),
            _ => self.indications = self.indications.with(Indications::OBJECT_UNKNOWN),
        }
    }

    /// Something that it says of itself, as a text.
    ///
    /// Source: IEEE 1815-2012, annex A.1 (group 0, index 0 for what the standard names).
    fn attribute(&mut self, attribute: u8) {
        const TEXT: u8 = 1;
        let octets = self.attributes.get(&attribute).map(|text| text.clone().into_bytes()).unwrap_or_default();
        let variation = Variation::new(0, attribute);
        self.push(Block::in_a_row(variation, 0, [Object::Attribute { code: TEXT, octets }]));
    }

    fn class(&mut self, class: EventClass, most: usize) {
        self.events(|event| event.class == class, None, most);
    }

    fn push(&mut self, block: Block) {
        self.pieces.push(Piece { block, events: Vec::new() });
    }

    fn events(&mut self, is_meant: impl Fn(&Event) -> bool, wanted: Option<Variation>, most: usize) {
        let chosen: Vec<&Event> = self
            .buffer
            .iter()
            .filter(|event| is_meant(event) && !self.chosen.contains(&event.number))
            .take(most)
            .collect();
        self.chosen.extend(chosen.iter().map(|event| event.number));
        let mut rest = chosen.as_slice();
        while let Some(first) = rest.first() {
            let variation_of = |event: &Event| {
                let usual = usual(event.kind, &event.value, true);
                wanted.filter(|wanted| wanted.group == usual.group).unwrap_or(usual)
            };
            let variation = variation_of(first);
            // Relative times reach so far.
            let is_near =
                |event: &Event| event.time.abs_diff(first.time) <= u64::from(u16::MAX) && event.time >= first.time;
            let is_same =
                |event: &&&Event| variation_of(event) == variation && (!is_relative(variation) || is_near(event));
            let count = rest.iter().take(MOST_OBJECTS).take_while(is_same).count().max(1);
            let (part, after) = rest.split_at(count.min(rest.len()));
            rest = after;
            if is_relative(variation) {
                self.push(Block::plain(Variation::new(51, 1), [Object::Time(first.time)]));
            }
            let objects = part.iter().filter_map(|event| {
                let told = object(&event.value, event.flags, event.time, variation)?;
                Some((event.index, since(told, event.time, first.time)))
            });
            let block = Block::indexed(variation, objects);
            self.pieces.push(Piece { block, events: part.iter().map(|event| event.number).collect() });
        }
    }

    fn states(&mut self, kind: PointKind, block: &Block) {
        let of_kind = |index: u32| self.points.get(&(kind, index)).map(|point| (index, point));
        let indices: Vec<(u32, &Point)> = match block.selection {
            Selection::All => {
                let all = self.points.range((kind, 0)..=(kind, u32::MAX));
                all.map(|((_, index), point)| (*index, point)).collect()
            }
            Selection::Range { start, stop } => {
                let all = self.points.range((kind, start)..=(kind, stop));
                all.map(|((_, index), point)| (*index, point)).collect()
            }
            Selection::Count(_) if block.entries.is_empty() => {
                self.indications = self.indications.with(Indications::PARAMETER_ERROR);
                return;
            }
            Selection::Count(_) => block.entries.iter().filter_map(|entry| of_kind(entry.index?)).collect(),
        };
        let asked = match block.selection {
            Selection::Range { start, stop } => Some(u64::from(stop - start) + 1),
            Selection::Count(count) => Some(count.into()),
            Selection::All => None,
        };
        if asked.is_some_and(|asked| asked > indices.len() as u64) {
            self.indications = self.indications.with(Indications::PARAMETER_ERROR);
        }
        let variation_of = |point: &Point| {
            let usual = usual(kind, &point.value, false);
            let wanted = (block.variation.variation != 0 && kind != PointKind::Octets).then_some(block.variation);
            let is_possible = |wanted: &Variation| object(&point.value, point.flags, point.time, *wanted).is_some();
            wanted.filter(is_possible).unwrap_or(usual)
        };
        let mut rest = indices.as_slice();
        while let Some((start, first)) = rest.first() {
            let variation = variation_of(first);
            let is_next = |(place, (index, point)): &(u32, &(u32, &Point))| {
                *index == start.saturating_add(*place) && variation_of(point) == variation
            };
            let count = (0..).zip(rest).take(MOST_OBJECTS).take_while(is_next).count().max(1);
            let (part, after) = rest.split_at(count);
            rest = after;
            let objects = part.iter().filter_map(|(_, point)| object(&point.value, point.flags, point.time, variation));
            let block = Block::in_a_row(variation, *start, objects);
            self.pieces.push(Piece { block, events: Vec::new() });
        }
    }
}

/// In the order in which all points are told.
pub(super) const KINDS: [PointKind; 8] = [
    PointKind::Binary,
    PointKind::DoubleBit,
    PointKind::BinaryOutput,
    PointKind::Counter,
    PointKind::FrozenCounter,
    PointKind::Analog,
    PointKind::AnalogOutput,
    PointKind::Octets,
];

fn is_relative(variation: Variation) -> bool {
    matches!((variation.group, variation.variation), (2 | 4, 3))
}

/// A relative time, from a moment that stands before it.
fn since(object: Object, time: u64, common: u64) -> Object {
    let offset = ObjectTime::Relative(u16::try_from(time.saturating_sub(common)).unwrap_or(u16::MAX));
    match object {
        Object::State { state, flags, time: ObjectTime::Relative(_) } => Object::State { state, flags, time: offset },
        Object::DoubleBit { state, flags, time: ObjectTime::Relative(_) } => {
            Object::DoubleBit { state, flags, time: offset }
        }
        other => other,
    }
}
