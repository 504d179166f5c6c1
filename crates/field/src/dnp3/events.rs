//! What is remembered of the events of an outstation: what it tells again is known by them, also by a later run of this program.

use crate::link::Keeper;
use foldhash::fast::RandomState;
use interlex_core::description::Dnp3Kind;
use interlex_dnp3::{DoubleBit, MeasuredValue, Measurement, Number, PointKind};
use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};
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
    marks: HashMap<Place, VecDeque<u64>, RandomState>,
}

/// What something is that an outstation told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Judged {
    /// How something is.
    State,
    /// An event that was not told before, as far as can be known, with its mark.
    New(u64),
    /// An event that was told before.
    Repeated,
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

    /// What each of these is. Of each point, those are repeats, told once more since their confirm was lost, that it begins with and
    /// ended with then. Within one fragment nothing is a repeat, and without a time nothing can be told to be one. What is new
    /// is remembered from now on.
    pub(super) fn judge(&self, told: &[Measurement], is_described: impl Fn(&Place) -> bool) -> Vec<Judged> {
        let judged = |told: &Measurement| if told.is_event { Judged::New(mark(told)) } else { Judged::State };
        let mut all: Vec<_> = told.iter().map(judged).collect();
        let mut by_point: HashMap<Place, Vec<(usize, u64)>, RandomState> = HashMap::default();
        for (at, (told, judged)) in told.iter().zip(&all).enumerate() {
            if let Judged::New(mark) = judged
                && told.time.is_some()
            {
                by_point.entry((told.kind, told.index)).or_default().push((at, *mark));
            }
        }
        let mut known = self.known.lock();
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
            for (at, _) in told.iter().take(count) {
                all.get_mut(*at).into_iter().for_each(|judged| *judged = Judged::Repeated);
            }
            marks.extend(told.iter().skip(count).map(|(_, mark)| *mark));
            trim(marks);
        }
        all
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

/// A number that tells an event from others of its point: all of its content. It is the same in every run and every version of this
/// program, since it is kept.
///
/// Each word of the content is mixed in by the finalizer of SplitMix64.
fn mark(told: &Measurement) -> u64 {
    let mut hash = mixed(u64::from(told.kind.group()) << 32 | u64::from(told.index));
    let mut add = |word: u64| hash = mixed(hash.wrapping_add(GOLDEN) ^ word);
    match &told.value {
        MeasuredValue::State(state) => add(1 << 8 | u64::from(*state)),
        MeasuredValue::DoubleBit(state) => add(2 << 8
            | match state {
                DoubleBit::Intermediate => 0,
                DoubleBit::Off => 1,
                DoubleBit::On => 2,
                DoubleBit::Indeterminate => 3,
            }),
        // One number is the same in whatever width it is told.
        MeasuredValue::Number(number) => {
            let (kind, bits) = match *number {
                Number::Uint16(number) => (3, u64::from(number)),
                Number::Uint32(number) => (3, number.into()),
                Number::Int16(number) => (4, i64::from(number).cast_unsigned()),
                Number::Int32(number) => (4, i64::from(number).cast_unsigned()),
                Number::Float32(number) => (5, number.to_bits().into()),
                Number::Float64(number) => (6, number.to_bits()),
            };
            add(kind);
            add(bits);
        }
        MeasuredValue::Octets(octets) => {
            add(7 << 32 | octets.len() as u64);
            octets.iter().for_each(|octet| add((*octet).into()));
        }
    }
    add(told.flags.map_or(0, |flags| 1 << 8 | u64::from(flags.0)));
    if let Some(time) = told.time {
        add(time.is_synchronized.into());
        add(time.millis);
    }
    hash
}

const GOLDEN: u64 = 0x9E37_79B9_7F4A_7C15;

const fn mixed(word: u64) -> u64 {
    let word = (word ^ word >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    let word = (word ^ word >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
    word ^ word >> 31
}
