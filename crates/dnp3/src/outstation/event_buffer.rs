use super::EventClass;
use crate::measurement::MeasuredValue;
use crate::object::{Flags, PointKind};
use std::collections::{BTreeSet, VecDeque};

/// A change that a master has not confirmed yet.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Event {
    pub(super) number: u64,
    pub(super) class: EventClass,
    pub(super) kind: PointKind,
    pub(super) index: u32,
    pub(super) value: MeasuredValue,
    pub(super) flags: Flags,
    pub(super) time: u64,
}

/// What a master has not confirmed yet, the oldest first.
#[derive(Debug, Default)]
pub(super) struct EventBuffer {
    events: VecDeque<Event>,
    most: usize,
    last: u64,
    /// Some were lost, and the buffer was not emptied since.
    pub(super) has_overflown: bool,
}

impl EventBuffer {
    pub(super) const fn new(most: usize) -> Self {
        Self { events: VecDeque::new(), most, last: 0, has_overflown: false }
    }

    pub(super) fn push(&mut self, event: Event) {
        if self.events.len() >= self.most {
            self.events.pop_front();
            self.has_overflown = true;
        }
        self.last += 1;
        self.events.push_back(Event { number: self.last, ..event });
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Event> {
        self.events.iter()
    }

    /// These are confirmed.
    pub(super) fn remove(&mut self, numbers: &BTreeSet<u64>) {
        self.events.retain(|event| !numbers.contains(&event.number));
        self.has_overflown &= !self.events.is_empty();
    }

    /// The classes of which there are more than these.
    pub(super) fn classes(&self, without: &BTreeSet<u64>) -> [bool; 3] {
        let has = |class| self.events.iter().any(|event| event.class == class && !without.contains(&event.number));
        [EventClass::First, EventClass::Second, EventClass::Third].map(has)
    }
}
