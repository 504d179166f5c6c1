use super::read::priorities;
use super::{Errand, NOT_OURS, Reply, Step, device_error};
use crate::bacnet::item::{object, reference};
use crate::bacnet::many::{ReadMany, Unread, Wanted};
use crate::bacnet::mapping::{found_type, told, value};
use crate::bacnet::ways::Ways;
use crate::link::{Answer, End, FrameView, PointWrite, Relinquish, WriteError, WriteOutcome, milliseconds};
use interlex_bacnet::{
    ConfirmedService, Content, Failure, ObjectIdentifier, Priority, PropertyIdentifier, PropertyReference,
    Value as Told, WriteProperty,
};
use interlex_core::description::BacnetAddress;
use interlex_core::{CommandRefusal, DataType, OutcomeWord, Value, raw_to_write_as};
use std::time::{Duration, Instant};

/// Writes a value at its priority, or gives it back, and looks at what came of it. What is there is read before: that says in which
/// form it is written, and whether it can be commanded at all.
#[derive(Debug)]
pub(in crate::bacnet) struct WriteErrand {
    write: PointWrite,
    instance: u32,
    address: BacnetAddress,
    object: ObjectIdentifier,
    reference: PropertyReference,
    priority: Priority,
    phase: Phase,
    frames: Vec<FrameView>,
    answer: Duration,
}

#[derive(Debug)]
enum Phase {
    /// What is there is read.
    Before(Option<ReadMany>),
    /// It is written.
    Write {
        data: Vec<u8>,
        raw: Option<Value>,
        written: Told,
        has_slots: bool,
    },
    /// What is there is read again.
    After {
        many: ReadMany,
        outcome: Box<WriteOutcome>,
        written: Told,
        has_slots: bool,
    },
    Done(Option<Box<Result<WriteOutcome, WriteError>>>),
}

impl WriteErrand {
    /// Checks whether it may be written at all.
    pub(in crate::bacnet) fn new(write: PointWrite) -> Result<Self, WriteError> {
        let foreign = || WriteError::Value(NOT_OURS.to_owned());
        let device = write.device.protocol.bacnet().ok_or_else(foreign)?;
        let (instance, of_device) = (device.instance, device.priority);
        let (address, own) = write.point.bacnet().ok_or_else(foreign)?;
        let priority = own.priority.unwrap_or(of_device).number();
        let priority = Priority::new(priority).filter(|priority| *priority != Priority::MINIMUM_ON_OFF);
        let priority = priority
            .ok_or_else(|| WriteError::Value("priority 6 is kept for the least times of on and off".to_owned()))?;
        let object = object(address).ok_or_else(foreign)?;
        let (reference, phase) = (reference(address), Phase::Before(None));
        let (frames, answer) = (Vec::new(), Duration::ZERO);
        Ok(Self { write, instance, address, object, reference, priority, phase, frames, answer })
    }

    /// The value with the priorities that hold it.
    fn looks(&self, ways: &Ways) -> ReadMany {
        let of = |reference, octets| Wanted { object: self.object, reference, octets };
        let mut wanted = vec![of(self.reference, 8)];
        if self.is_commanded() {
            wanted.push(of(PropertyIdentifier::PRIORITY_ARRAY.into(), 40));
            wanted.push(of(PropertyIdentifier::OUT_OF_SERVICE.into(), 1));
        }
        ReadMany::new(wanted, ways)
    }

    /// Whether priorities are about it.
    fn is_commanded(&self) -> bool {
        self.address.is_present_value() && self.address.index.is_none()
    }

    fn failed(error: impl Into<WriteError>) -> Phase {
        Phase::Done(Some(Box::new(Err(error.into()))))
    }

    fn refused(&self, why: &impl ToString) -> Phase {
        Self::failed(device_error(self.instance, why, self.frames.clone()))
    }

    /// What is there is known: what is written by that.
    fn prepared(&self, many: ReadMany) -> Phase {
        let read: Vec<_> = many.results().collect();
        let of = |property: PropertyIdentifier| {
            let found = read.iter().find(|(wanted, _)| wanted.reference == property.into());
            found.and_then(|(_, told)| told.as_ref()?.as_ref().ok())
        };
        let now = match read.first().and_then(|(_, told)| told.as_ref()) {
            Some(Ok(content)) => content.clone(),
            Some(Err(why)) => return self.refused(why),
            None => return self.refused(&Unread::Unfitting),
        };
        let object_type = self.object.object_type();
        let has_slots = of(PropertyIdentifier::PRIORITY_ARRAY).is_some();
        let is_out = of(PropertyIdentifier::OUT_OF_SERVICE).and_then(Content::one) == Some(Told::Boolean(true));
        if self.is_commanded() && !has_slots && object_type.is_input() && !is_out {
            return self.refused(&"inputs take a value only while they are out of service");
        }
        if self.write.relinquishes != Relinquish::No {
            let Some(slots) = of(PropertyIdentifier::PRIORITY_ARRAY).and_then(|slots| slots.values().ok()) else {
                return Self::failed(WriteError::Refused(CommandRefusal::NoPriorities));
            };
            let held = slots.get(usize::from(self.priority.number()) - 1).filter(|slot| **slot != Told::Null);
            if self.write.relinquishes == Relinquish::IfHeld && !self.is_held(held) {
                return self.refused(&format!("priority {} does not hold our value any more", self.priority));
            }
            return self.writes(None, Told::Null, has_slots);
        }
        let point = &self.write.point;
        let described = point.raw_type();
        let data_type = if described == DataType::Auto { found_type(&now).unwrap_or(described) } else { described };
        let raw = match raw_to_write_as(point, &self.write.value, data_type) {
            Ok(raw) => raw,
            Err(error) => return Self::failed(WriteError::Refused(error)),
        };
        let form = now.one().filter(|form| *form != Told::Null);
        let Some(written) = form.and_then(|form| told(&raw, &form)) else {
            return self.refused(&format!("{raw} has no form in which it takes values"));
        };
        self.writes(Some(raw), written, has_slots)
    }

    /// Whether our slot holds what was commanded.
    fn is_held(&self, slot: Option<&Told>) -> bool {
        let Some(slot) = slot else { return false };
        let point = &self.write.point;
        let content = Content::of(std::slice::from_ref(slot));
        let data_type = match point.raw_type() {
            DataType::Auto => found_type(&content).unwrap_or(DataType::Auto),
            described => described,
        };
        let raw = point.shaping.unapply(&self.write.value, data_type).ok();
        raw.and_then(|raw| told(&raw, slot)).as_ref() == Some(slot)
    }

    fn writes(&self, raw: Option<Value>, written: Told, has_slots: bool) -> Phase {
        let mut data = Vec::new();
        let value = Content::of(std::slice::from_ref(&written));
        let priority = has_slots.then_some(self.priority);
        WriteProperty { object: self.object, reference: self.reference, value, priority }.encode(&mut data);
        Phase::Write { data, raw, written, has_slots }
    }

    /// Only a device that refuses has certainly not done it.
    fn after_write(&self, ways: &Ways, reply: &Reply, raw: Option<Value>, written: Told, has_slots: bool) -> Phase {
        match &reply.outcome {
            Ok(_) => {}
            Err(Failure::Timeout | Failure::Unfitting) => {
                let why = format!("{}: no answer", super::super::frames::peer(self.instance));
                return Self::failed(WriteError::Unknown { why, frames: self.frames.clone() });
            }
            Err(Failure::Abort { by_peer: false, reason }) => {
                let why = format!("{}: {reason}", super::super::frames::peer(self.instance));
                return Self::failed(WriteError::Unknown { why, frames: self.frames.clone() });
            }
            Err(error) => return self.refused(error),
        }
        let point = &self.write.point;
        let raw = raw.unwrap_or_else(|| Value::Text("null".into()));
        let taken = if self.write.relinquishes != Relinquish::No { raw.clone() } else { point.shaping.apply(&raw) };
        let outcome = WriteOutcome {
            outcome: OutcomeWord::Accepted,
            words: String::new(),
            address: point.address.to_string(),
            written: raw,
            taken,
            raw: None,
            value: None,
            unit: point.settings.unit.clone(),
            confirmed: None,
            read_back_error: None,
            answer: None,
            answer_ms: milliseconds(reply.took),
            shared_connection: false,
            frames: Vec::new(),
        };
        Phase::After { many: self.looks(ways), outcome: Box::new(outcome), written, has_slots }
    }

    /// Our own slot says whether it was taken; who goes before us may hold another value all the same.
    fn looked(&mut self, many: ReadMany, mut outcome: WriteOutcome, written: &Told, has_slots: bool) -> Phase {
        let told: Vec<_> = many.results().collect();
        let found = |property: PropertyReference| {
            let found = told.iter().find(|(wanted, _)| wanted.reference == property);
            found.and_then(|(_, told)| told.as_ref()?.as_ref().ok())
        };
        let now = found(self.reference);
        let slots = found(PropertyIdentifier::PRIORITY_ARRAY.into());
        let data_type = self.write.point.raw_type();
        outcome.raw = now.and_then(|now| {
            let data_type = if data_type == DataType::Auto { found_type(now)? } else { data_type };
            value(now, self.address, data_type)
        });
        outcome.value = outcome.raw.as_ref().map(|raw| self.write.point.shaping.apply(raw));
        let own = usize::from(self.priority.number()) - 1;
        match (slots.and_then(|slots| slots.values().ok()), has_slots) {
            (Some(values), true) => {
                let is_taken = values.get(own) == Some(written);
                let holder = (1..).zip(&values).find(|(_, slot)| **slot != Told::Null);
                let before = holder.filter(|(priority, _)| *priority <= own);
                match (is_taken, before) {
                    // Whoever gives something back does not want to hold it.
                    (true, _) if *written == Told::Null => outcome.confirmed = Some(true),
                    (true, Some((priority, slot))) => {
                        outcome.answer = Some(
                            format!("taken at priority {}, while priority {priority} holds {slot}", self.priority)
                                .into(),
                        );
                    }
                    (true, None) => outcome.confirmed = Some(true),
                    (false, _) => {
                        let held = slots.map(priorities).unwrap_or_default();
                        outcome.read_back_error =
                            Some(format!("priority {} does not hold it; {held}", self.priority).into());
                    }
                }
            }
            _ => match now {
                Some(now) => outcome.confirmed = Some(now.one().as_ref() == Some(written)),
                None => outcome.read_back_error = Some("it does not say what it holds".into()),
            },
        }
        self.done(outcome)
    }

    fn done(&mut self, outcome: WriteOutcome) -> Phase {
        let outcome = WriteOutcome { frames: std::mem::take(&mut self.frames), ..outcome };
        let told = if self.write.relinquishes != Relinquish::No {
            let asked = outcome.taken.clone();
            outcome.told(&asked)
        } else {
            outcome.told(&self.write.value)
        };
        Phase::Done(Some(Box::new(Ok(told))))
    }
}

impl Errand for WriteErrand {
    fn next(&mut self, ways: &Ways, _: Instant) -> Step {
        loop {
            match &mut self.phase {
                Phase::Done(told) => {
                    let gone = || Box::new(Err(WriteError::Value("it was told before".to_owned())));
                    return Step::Done(Box::new(Answer::Written(*told.take().unwrap_or_else(gone))));
                }
                Phase::Before(None) => {
                    let looks = self.looks(ways);
                    self.phase = Phase::Before(Some(looks));
                }
                Phase::Before(Some(many)) => match many.next(ways) {
                    Some((service, data)) => return Step::Ask(service, data),
                    None => {
                        let many = std::mem::take(many);
                        self.phase = self.prepared(many);
                    }
                },
                Phase::Write { data, .. } => return Step::Ask(ConfirmedService::WRITE_PROPERTY, data.clone()),
                Phase::After { many, .. } => match many.next(ways) {
                    Some((service, data)) => return Step::Ask(service, data),
                    None => {
                        let Phase::After { many, outcome, written, has_slots } =
                            std::mem::replace(&mut self.phase, Phase::Done(None))
                        else {
                            continue;
                        };
                        self.phase = self.looked(many, *outcome, &written, has_slots);
                    }
                },
            }
        }
    }

    fn answered(&mut self, ways: &mut Ways, reply: Reply) {
        self.frames.extend(reply.frames.iter().cloned());
        self.answer = reply.took;
        match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            Phase::Before(Some(mut many)) => match many.answered(ways, reply.outcome) {
                Ok(()) => self.phase = Phase::Before(Some(many)),
                Err(failure) => self.phase = self.refused(&failure),
            },
            Phase::Write { raw, written, has_slots, .. } => {
                self.phase = self.after_write(ways, &reply, raw, written, has_slots);
            }
            Phase::After { mut many, mut outcome, written, has_slots } => match many.answered(ways, reply.outcome) {
                Ok(()) => self.phase = Phase::After { many, outcome, written, has_slots },
                Err(failure) => {
                    outcome.read_back_error = Some(failure.to_string().into());
                    self.phase = self.done(*outcome);
                }
            },
            other => self.phase = other,
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        Answer::Written(match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            Phase::Write { .. } if end.is_sent => {
                Err(WriteError::Unknown { why: error.to_string(), frames: std::mem::take(&mut self.frames) })
            }
            // Reading changes nothing, and what was not sent neither.
            Phase::Before(_) | Phase::Write { .. } => Err(error.into()),
            Phase::After { outcome, .. } => {
                let outcome = WriteOutcome { read_back_error: Some(error.to_string().into()), ..*outcome };
                match self.done(outcome) {
                    Phase::Done(Some(told)) => *told,
                    _ => Err(error.into()),
                }
            }
            Phase::Done(told) => told.map_or_else(|| Err(error.into()), |told| *told),
        })
    }

    fn written(&self) -> Option<ObjectIdentifier> {
        matches!(self.phase, Phase::After { .. }).then_some(self.object)
    }
}
