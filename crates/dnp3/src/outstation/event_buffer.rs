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
    /// How many there are of each class.
    counts: [usize; 3],
    /// Some were lost, and the buffer was not emptied since.
    pub(super) has_overflown: bool,
}

impl EventBuffer {
    pub(super) const fn new(most: usize) -> Self {
        Self { events: VecDeque::new(), most, last: 0, counts: [0; 3], has_overflown: false }
    }

    pub(super) fn push(&mut self, event: Event) {
        if self.events.len() >= self.most {
            self.pop_front();
            self.has_overflown = true;
        }
        self.last += 1;
        *self.of_class(event.class) += 1;
        self.events.push_back(Event { number: self.last, ..event });
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Event> {
        self.events.iter()
    }

    /// These are confirmed.
    pub(super) fn remove(&mut self, numbers: &BTreeSet<u64>) {
        // They stand in the order of their numbers, and those that are confirmed mostly at the front.
        while self.events.front().is_some_and(|event| numbers.contains(&event.number)) {
            self.pop_front();
        }
        let first = self.events.front().map(|event| event.number);
        if first.is_some_and(|first| numbers.range(first..).next().is_some()) {
            self.events.retain(|event| !numbers.contains(&event.number));
            self.count();
        }
        self.has_overflown &= !self.events.is_empty();
    }

    /// The classes of which there are more than these.
    pub(super) fn classes(&self, without: &BTreeSet<u64>) -> [bool; 3] {
        let mut counts = self.counts;
        for number in without {
            let at = self.events.partition_point(|event| event.number < *number);
            if let Some(event) = self.events.get(at).filter(|event| event.number == *number) {
                let [first, second, third] = &mut counts;
                *of_class(event.class, (first, second, third)) -= 1;
            }
        }
        counts.map(|count| count > 0)
    }

    fn pop_front(&mut self) {
        if let Some(event) = self.events.pop_front() {
            *self.of_class(event.class) -= 1;
        }
    }

    fn of_class(&mut self, class: EventClass) -> &mut usize {
        let [first, second, third] = &mut self.counts;
        of_class(class, (first, second, third))
    }

    fn count(&mut self) {
        let of = |class| self.events.iter().filter(|event| event.class == class).count();
        self.counts = [EventClass::First, EventClass::Second, EventClass::Third].map(of);
    }
}

fn of_class<'a>(class: EventClass, counts: (&'a mut usize, &'a mut usize, &'a mut usize)) -> &'a mut usize {
    match class {
        EventClass::First => counts.0,
        EventClass::Second => counts.1,
        EventClass::Third => counts.2,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CLASSES: [EventClass; 3] = [EventClass::First, EventClass::Second, EventClass::Third];

    proptest! {
        #[test]
        fn classes_are_those_of_what_is_there(steps in prop::collection::vec((0_usize..3, any::<u64>(), any::<u64>()), 1..200)) {
            let mut buffer = EventBuffer::new(40);
            for (class, confirmed, told) in steps {
                let event = |class| Event {
                    number: 0,
                    class,
                    kind: PointKind::Binary,
                    index: 0,
                    value: MeasuredValue::State(true),
                    flags: Flags::ONLINE,
                    time: 0,
                };
                buffer.push(event(CLASSES[class]));
                let chosen = |bits: u64, buffer: &EventBuffer| -> BTreeSet<u64> {
                    buffer.iter().map(|event| event.number).filter(|number| bits >> (number % 64) & 1 == 1).collect()
                };
                // Most steps confirm nothing.
                if confirmed % 4 == 0 {
                    let numbers = chosen(confirmed, &buffer);
                    buffer.remove(&numbers);
                }
                let without = chosen(told, &buffer);
                let has = |class| buffer.iter().any(|event| event.class == class && !without.contains(&event.number));
                prop_assert_eq!(buffer.classes(&without), CLASSES.map(has));
            }
        }
    }
}
