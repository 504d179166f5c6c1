use super::{Errand, NOT_OURS, Reply, Step, device_error};
use crate::bacnet::item::{object, reference};
use crate::bacnet::many::{ReadMany, Unread, Wanted};
use crate::bacnet::mapping::{flags, found_type, quality, value};
use crate::bacnet::ways::Ways;
use crate::error::TrialError;
use crate::link::{Answer, End, FrameView, Said, TrialRead, TrialReading, milliseconds};
use interlex_bacnet::{Content, PropertyIdentifier, Value as Told, reliability, unit};
use interlex_core::DataType;
use interlex_core::description::BacnetAddress;
use std::time::{Duration, Instant};

/// Reads a point once, with what its object says beside the value.
#[derive(Debug)]
pub(in crate::bacnet) struct ReadErrand {
    read: TrialRead,
    instance: u32,
    address: BacnetAddress,
    many: Option<ReadMany>,
    wanted: Vec<Wanted>,
    frames: Vec<FrameView>,
    took: Duration,
    done: Option<Result<TrialReading, TrialError>>,
}

/// What is told of an object beside its value.
const BESIDE: [PropertyIdentifier; 6] = [
    PropertyIdentifier::STATUS_FLAGS,
    PropertyIdentifier::RELIABILITY,
    PropertyIdentifier::UNITS,
    PropertyIdentifier::OBJECT_NAME,
    PropertyIdentifier::COV_INCREMENT,
    PropertyIdentifier::PRIORITY_ARRAY,
];

impl ReadErrand {
    pub(in crate::bacnet) fn new(read: TrialRead) -> Result<Self, TrialError> {
        let foreign = || TrialError::Request(NOT_OURS.to_owned());
        let (address, _) = read.point.bacnet().ok_or_else(foreign)?;
        let instance = read.device.protocol.bacnet().ok_or_else(foreign)?.instance;
        let object = object(address).ok_or_else(foreign)?;
        let of = |reference, octets| Wanted { object, reference, octets };
        let mut wanted = vec![of(reference(address), 40)];
        if address.is_present_value() && address.index.is_none() {
            wanted.extend(BESIDE.map(|property| of(property.into(), 16)));
        }
        Ok(Self { read, instance, address, many: None, wanted, frames: Vec::new(), took: Duration::ZERO, done: None })
    }

    fn finish(&mut self, many: ReadMany) {
        let told: Vec<_> = many.results().collect();
        let of = |property: PropertyIdentifier| {
            let found = told.iter().find(|(wanted, _)| wanted.reference == property.into());
            found.and_then(|(_, told)| told.as_ref()?.as_ref().ok())
        };
        let frames = std::mem::take(&mut self.frames);
        let content = match told.first().and_then(|(_, told)| told.as_ref()) {
            Some(Ok(content)) => content,
            Some(Err(why)) => return self.done = Some(Err(device_error(self.instance, why, frames))),
            None => return self.done = Some(Err(device_error(self.instance, &Unread::Unfitting, frames))),
        };
        let point = &self.read.point;
        let described = point.raw_type();
        let data_type =
            if described == DataType::Auto { found_type(content).unwrap_or(DataType::Auto) } else { described };
        let raw = value(content, self.address, data_type);
        let mut said = Vec::new();
        let mut say = |what, told: Option<String>| said.extend(told.map(|told| Said::new(what, told)));
        say("name", of(PropertyIdentifier::OBJECT_NAME).map(plain));
        if let Some(flags) = of(PropertyIdentifier::STATUS_FLAGS).and_then(flags) {
            let number = of(PropertyIdentifier::RELIABILITY).and_then(number).unwrap_or(0);
            let words = quality(flags, 0).reason().map_or_else(|| "none is set".to_owned(), crate::bacnet::words);
            say("status flags", Some(words));
            if number != 0 {
                let word = reliability(number).map_or_else(|| format!("reliability {number}"), str::to_owned);
                say("reliability", Some(word));
            }
        }
        if let Some(number) = of(PropertyIdentifier::UNITS).and_then(number) {
            say("unit", Some(unit(number).map_or_else(|| format!("unit {number}"), str::to_owned)));
        }
        say("increment", of(PropertyIdentifier::COV_INCREMENT).map(plain));
        say("priorities", of(PropertyIdentifier::PRIORITY_ARRAY).map(priorities));
        self.done = Some(Ok(TrialReading {
            address: point.address.to_string(),
            registers: Vec::new(),
            value: raw.as_ref().map(|raw| point.shaping.apply(raw)),
            raw,
            unit: point.settings.unit.clone(),
            answer_ms: milliseconds(self.took),
            shared_connection: false,
            frames,
            alternatives: Vec::new(),
            said,
        }));
    }
}

fn number(told: &Content) -> Option<u32> {
    told.one()?.as_unsigned().and_then(|number| u32::try_from(number).ok())
}

/// A text without its marks.
pub(super) fn plain(told: &Content) -> String {
    match told.one() {
        Some(Told::CharacterString(text)) => text,
        _ => told.to_string(),
    }
}

/// Who holds what: `8: 42.5, 16: 10`.
pub(in crate::bacnet) fn priorities(told: &Content) -> String {
    let Ok(slots) = told.values() else { return told.to_string() };
    let held = (1..).zip(&slots).filter(|(_, slot)| **slot != Told::Null);
    let held: Vec<_> = held.map(|(priority, slot)| format!("{priority}: {slot}")).collect();
    if held.is_empty() { "nobody commands it".to_owned() } else { held.join(", ") }
}

impl Errand for ReadErrand {
    fn next(&mut self, ways: &Ways, _: Instant) -> Step {
        loop {
            if let Some(done) = self.done.take() {
                return Step::Done(Box::new(Answer::Read(done)));
            }
            let wanted = &self.wanted;
            let many = self.many.get_or_insert_with(|| ReadMany::new(wanted.clone(), ways));
            if let Some((service, data)) = many.next(ways) {
                return Step::Ask(service, data);
            }
            let many = std::mem::take(many);
            self.finish(many);
        }
    }

    fn answered(&mut self, ways: &mut Ways, reply: Reply) {
        self.frames.extend(reply.frames);
        self.took = self.took.max(reply.took);
        let Some(many) = &mut self.many else { return };
        if let Err(failure) = many.answered(ways, reply.outcome) {
            let frames = std::mem::take(&mut self.frames);
            self.done = Some(Err(device_error(self.instance, &failure, frames)));
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Read(Err(end.error()))
    }
}
