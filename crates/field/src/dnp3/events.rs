//! What is remembered of the events of an outstation: what it tells again is known by them, also by a later run of this program.

use super::mapping::described;
use crate::link::Keeper;
use interlex_core::description::{Dnp3Address, Dnp3Kind};
use interlex_dnp3::{DoubleBit, MeasuredValue, Measurement, Number, PointKind};
use parking_lot::Mutex;
use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;

/// A point of an outstation.
pub(super) type Place = (PointKind, u32);

/// Events that an outstation told last, by what they are of.
#[derive(Debug, Default)]
pub(super) struct EventMemory {
    known: Mutex<Known>,
}

#[derive(Debug, Default)]
struct Known {
    is_loaded: bool,
    marks: HashMap<Place, VecDeque<u64>>,
}

/// So many events of a point are remembered.
const REMEMBERED: usize = 256;
/// So many points of which nobody knows are remembered; an outstation with more of them is nobody's device.
const PLACES: usize = 8192;

impl EventMemory {
    /// Remembers what a run before has kept, once.
    pub(super) async fn load(&self, keeper: Option<&Arc<dyn Keeper>>, source: &str) {
        let Some(keeper) = keeper.filter(|_| !self.known.lock().is_loaded) else { return };
        // Without it what is told again is taken for new, once: the link does not wait for that.
        let Some(kept) = keeper.last_events(source).await else { return };
        let mut known = self.known.lock();
        if known.is_loaded {
            return;
        }
        known.is_loaded = true;
        for (address, mark) in kept {
            if let Some(place) = place_of(&address) {
                known.marks.entry(place).or_default().push_back(mark);
            }
        }
        known.marks.values_mut().for_each(trim);
    }

    /// The places of events that were told before, since their confirm was lost: of each point, what it begins with and what it
    /// ended with then. Within one fragment nothing is a repeat, and without a time nothing can be told to be one. What is new
    /// is remembered from now on.
    pub(super) fn repeated(&self, told: &[Measurement], is_described: impl Fn(&Place) -> bool) -> HashSet<usize> {
        let mut by_point: HashMap<Place, Vec<(usize, u64)>> = HashMap::new();
        let may_be = |told: &Measurement| told.is_event && told.time.is_some();
        for (at, told) in told.iter().enumerate().filter(|(_, told)| may_be(told)) {
            by_point.entry((told.kind, told.index)).or_default().push((at, mark(told)));
        }
        let (mut repeated, mut known) = (HashSet::new(), self.known.lock());
        for (place, told) in by_point {
            if known.marks.len() >= PLACES && !known.marks.contains_key(&place) {
                known.marks.retain(|place, _| is_described(place));
            }
            let marks = known.marks.entry(place).or_default();
            let is_same = |count: &usize| {
                let ended = marks.iter().skip(marks.len() - count);
                ended.eq(told.iter().take(*count).map(|(_, mark)| mark))
            };
            let count = (1..=marks.len().min(told.len())).rev().find(is_same).unwrap_or(0);
            repeated.extend(told.iter().take(count).map(|(at, _)| *at));
            marks.extend(told.iter().skip(count).map(|(_, mark)| *mark));
            trim(marks);
        }
        repeated
    }

    /// These could not be made safe: told again, they are new.
    pub(super) fn forget(&self, events: &[(Place, u64)]) {
        let mut known = self.known.lock();
        for (place, mark) in events.iter().rev() {
            let Some(marks) = known.marks.get_mut(place) else { continue };
            if let Some(at) = marks.iter().rposition(|known| known == mark) {
                marks.truncate(at);
            }
        }
    }

    #[cfg(test)]
    pub(super) fn places(&self) -> usize {
        self.known.lock().marks.len()
    }
}

fn trim(marks: &mut VecDeque<u64>) {
    marks.drain(..marks.len().saturating_sub(REMEMBERED));
}

fn place_of(address: &str) -> Option<Place> {
    let (word, index) = address.split_once(':')?;
    let kind = Dnp3Kind::ALL.into_iter().find(|kind| kind.word() == word)?;
    Some((super::mapping::kind(kind), index.parse().ok()?))
}

/// Where a point lives, as the sequence of events has it. It may have an index that no description can have.
pub(super) fn address_of(told: &Measurement) -> String {
    let kind = described(told.kind);
    match u16::try_from(told.index) {
        Ok(index) => Dnp3Address { kind, index }.to_string(),
        Err(_) => format!("{}:{}", kind.word(), told.index),
    }
}

/// A number that tells an event from others of its point: all of its content. It is the same in every run and every version of this
/// program, since it is kept.
///
/// The hash is FNV-1a with 64 bits.
pub(super) fn mark(told: &Measurement) -> u64 {
    let mut hash = 0xCBF2_9CE4_8422_2325_u64;
    let mut add = |bytes: &[u8]| {
        for byte in bytes {
            hash = (hash ^ u64::from(*byte)).wrapping_mul(0x0000_0100_0000_01B3);
        }
    };
    add(&[told.kind.group()]);
    add(&told.index.to_le_bytes());
    match &told.value {
        MeasuredValue::State(state) => add(&[1, u8::from(*state)]),
        MeasuredValue::DoubleBit(state) => add(&[
            2,
            match state {
                DoubleBit::Intermediate => 0,
                DoubleBit::Off => 1,
                DoubleBit::On => 2,
                DoubleBit::Indeterminate => 3,
            },
        ]),
        // One number is the same in whatever width it is told.
        MeasuredValue::Number(number) => {
            let (kind, octets) = match *number {
                Number::Uint16(number) => (3, u64::from(number)),
                Number::Uint32(number) => (3, number.into()),
                Number::Int16(number) => (4, i64::from(number).cast_unsigned()),
                Number::Int32(number) => (4, i64::from(number).cast_unsigned()),
                Number::Float32(number) => (5, number.to_bits().into()),
                Number::Float64(number) => (6, number.to_bits()),
            };
            add(&[kind]);
            add(&octets.to_le_bytes());
        }
        MeasuredValue::Octets(octets) => {
            add(&[7]);
            add(octets);
        }
    }
    match told.flags {
        Some(flags) => add(&[1, flags.0]),
        None => add(&[0]),
    }
    if let Some(time) = told.time {
        add(&[u8::from(time.is_synchronized)]);
        add(&time.millis.to_le_bytes());
    }
    hash
}
