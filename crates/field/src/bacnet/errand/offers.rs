use super::read::plain;
use super::{Errand, Reply, Step};
use crate::bacnet::many::{ReadMany, Unread, Wanted};
use crate::bacnet::mapping::{flags, found_type, limits, quality, state_words, value};
use crate::bacnet::ways::{Meaning, Ways, meaning};
use crate::link::{Answer, End};
use interlex_bacnet::{
    ConfirmedService, Content, ObjectIdentifier, ObjectType, PropertyIdentifier, PropertyReference, ReadProperty,
    ReadPropertyAck, Value as Told, unit, unit_name,
};
use interlex_core::description::BacnetAddress;
use interlex_core::{DataType, Offer, OfferEvent};
use serde_json::{Map, json};
use std::collections::VecDeque;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// Which objects are looked at.
#[derive(Debug, Clone)]
pub(in crate::bacnet) struct Sought {
    pub(in crate::bacnet) instance: u32,
    /// What their name or description has in it, in small letters.
    pub(in crate::bacnet) text: String,
    pub(in crate::bacnet) events: mpsc::Sender<OfferEvent>,
}

/// Tells which objects a device has: its list, in one piece or element by element, and then what each says of itself.
#[derive(Debug)]
pub(in crate::bacnet) struct Offers {
    sought: Sought,
    phase: Phase,
    told: VecDeque<OfferEvent>,
    objects: VecDeque<ObjectIdentifier>,
    total: usize,
    requests: u32,
}

#[derive(Debug)]
enum Phase {
    /// The list in one piece.
    List,
    /// How long it is.
    Length,
    /// Its elements.
    Elements(ReadMany),
    /// What some objects say of themselves.
    Objects(Vec<ObjectIdentifier>, ReadMany),
    /// The next ones.
    Next,
    Over,
}

/// So many objects are looked at before what they say is told.
const AT_ONCE: usize = 24;
/// Lists are not longer than this.
const MOST_OBJECTS: u32 = 100_000;
/// Whoever listens takes more after this.
const TAKEN_LATER: Duration = Duration::from_millis(20);

impl Offers {
    pub(in crate::bacnet) const fn new(sought: Sought) -> Self {
        Self { sought, phase: Phase::List, told: VecDeque::new(), objects: VecDeque::new(), total: 0, requests: 0 }
    }

    fn list(&self, index: Option<u32>) -> Option<Vec<u8>> {
        let object = ObjectIdentifier::device(self.sought.instance)?;
        let reference = PropertyReference { property: PropertyIdentifier::OBJECT_LIST, index };
        let mut data = Vec::new();
        ReadProperty { object, reference }.encode(&mut data);
        Some(data)
    }

    fn progress(&mut self) {
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let done = self.total - self.objects.len();
        self.told.push_back(OfferEvent::Progress { done: count(done), total: count(self.total) });
    }

    fn listed(&mut self, values: impl IntoIterator<Item = Told>) {
        // The device itself is no point.
        let object = |value| match value {
            Told::ObjectIdentifier(object) if object.object_type() != ObjectType::DEVICE => Some(object),
            _ => None,
        };
        self.objects = values.into_iter().filter_map(object).collect();
        self.total = self.objects.len();
        self.phase = Phase::Next;
        self.progress();
    }

    fn next_objects(&mut self, ways: &Ways) {
        let some: Vec<_> = self.objects.drain(..AT_ONCE.min(self.objects.len())).collect();
        if some.is_empty() {
            self.told.push_back(OfferEvent::Done { requests: self.requests });
            self.phase = Phase::Over;
            return;
        }
        let wanted = some.iter().flat_map(|object| asked(*object)).collect();
        self.phase = Phase::Objects(some, ReadMany::new(wanted, ways));
    }

    fn described(&mut self, objects: &[ObjectIdentifier], many: ReadMany) {
        let told: Vec<_> = many.results().collect();
        let mut offers = Vec::new();
        for object in objects {
            let of_object = told.iter().filter(|(wanted, _)| wanted.object == *object);
            let said = Said(of_object.collect());
            offers.extend(said.offer(*object).filter(|offer| self.is_sought(offer)));
        }
        if !offers.is_empty() {
            self.told.push_back(OfferEvent::Points { offers });
        }
        self.progress();
        self.phase = Phase::Next;
    }

    fn is_sought(&self, offer: &Offer) -> bool {
        let text = &self.sought.text;
        let has = |told: &str| told.to_lowercase().contains(text);
        text.is_empty()
            || has(&offer.path.join("/"))
            || ["title", "address"]
                .iter()
                .any(|key| offer.point.get(*key).and_then(|told| told.as_str()).is_some_and(has))
    }

    fn failed(&mut self, why: &impl ToString) {
        self.told.push_back(OfferEvent::Failed { why: why.to_string() });
        self.phase = Phase::Over;
    }
}

/// What is asked of an object, by what it is.
fn asked(object: ObjectIdentifier) -> Vec<Wanted> {
    let object_type = object.object_type();
    let of = |property: PropertyIdentifier, octets| Wanted { object, reference: property.into(), octets };
    let mut all = vec![
        of(PropertyIdentifier::OBJECT_NAME, 24),
        of(PropertyIdentifier::DESCRIPTION, 24),
        of(PropertyIdentifier::PRESENT_VALUE, 5),
        of(PropertyIdentifier::STATUS_FLAGS, 3),
    ];
    if object_type.is_binary() {
        all.extend([of(PropertyIdentifier::INACTIVE_TEXT, 12), of(PropertyIdentifier::ACTIVE_TEXT, 12)]);
    } else if object_type.is_multi_state() {
        all.push(of(PropertyIdentifier::STATE_TEXT, 60));
    } else {
        all.extend([
            of(PropertyIdentifier::UNITS, 2),
            of(PropertyIdentifier::MIN_PRES_VALUE, 5),
            of(PropertyIdentifier::MAX_PRES_VALUE, 5),
        ]);
    }
    // Whether it can be commanded: outputs always can, and of others those with slots.
    if !object_type.is_output() && !object_type.is_input() {
        let reference = PropertyReference { property: PropertyIdentifier::PRIORITY_ARRAY, index: Some(16) };
        all.push(Wanted { object, reference, octets: 5 });
    }
    all
}

/// What an object says of itself.
struct Said<'a>(Vec<&'a (Wanted, Option<Result<Content, Unread>>)>);

impl Said<'_> {
    fn of(&self, property: PropertyIdentifier) -> Option<&Content> {
        let found = self.0.iter().find(|(wanted, _)| wanted.reference.property == property);
        found.and_then(|(_, told)| told.as_ref()?.as_ref().ok())
    }

    fn text(&self, property: PropertyIdentifier) -> Option<String> {
        self.of(property).map(plain).filter(|text| !text.is_empty())
    }

    fn number(&self, property: PropertyIdentifier) -> Option<f64> {
        self.of(property)?.one()?.as_f64().filter(|number| number.is_finite())
    }

    fn offer(&self, object: ObjectIdentifier) -> Option<Offer> {
        // What has no value is no point: schedules, calendars, logs, files.
        let content = self.of(PropertyIdentifier::PRESENT_VALUE)?;
        let address = BacnetAddress {
            object_type: object.object_type().number(),
            instance: object.instance(),
            property: PropertyIdentifier::PRESENT_VALUE.0,
            index: None,
        };
        let mut point = Map::from_iter([("address".to_owned(), json!(address.to_string()))]);
        let mut notes = Vec::new();
        let data_type = address.data_type().or_else(|| found_type(content)).unwrap_or(DataType::Auto);
        if let Some(title) = self.text(PropertyIdentifier::DESCRIPTION) {
            point.insert("title".to_owned(), json!(title));
        }
        if let Some(number) = self.of(PropertyIdentifier::UNITS).and_then(|told| told.one()?.as_unsigned()) {
            let number = u32::try_from(number).unwrap_or(u32::MAX);
            match (unit(number), unit_name(number)) {
                (Some(written), _) if !written.is_empty() => {
                    point.insert("unit".to_owned(), json!(written));
                }
                (Some(_), Some(name)) if name != "no-units" => notes.push(name.to_owned()),
                (None, _) => notes.push(format!("unit {number}")),
                _ => {}
            }
        }
        let (low, high) =
            (self.number(PropertyIdentifier::MIN_PRES_VALUE), self.number(PropertyIdentifier::MAX_PRES_VALUE));
        if let Some((low, high)) = limits(low, high) {
            point.extend([("low".to_owned(), json!(low)), ("high".to_owned(), json!(high))]);
        }
        let words = self.of(PropertyIdentifier::STATE_TEXT).and_then(state_words);
        point.extend(words.map(|words| ("enumeration".to_owned(), json!(words))));
        let (off, on) = (self.text(PropertyIdentifier::INACTIVE_TEXT), self.text(PropertyIdentifier::ACTIVE_TEXT));
        if let (Some(off), Some(on)) = (off, on) {
            notes.push(format!("off is {off}, on is {on}"));
        }
        let is_commandable = object.object_type().is_output() || self.of(PropertyIdentifier::PRIORITY_ARRAY).is_some();
        if is_commandable {
            point.insert("access".to_owned(), json!("read-write"));
        }
        let flags = self.of(PropertyIdentifier::STATUS_FLAGS).and_then(flags).unwrap_or(0);
        let quality = quality(flags, 0);
        let words = quality.reason().map(crate::bacnet::words);
        let value = value(content, address, data_type);
        let name = self.text(PropertyIdentifier::OBJECT_NAME).unwrap_or_else(|| object.to_string());
        Some(Offer {
            path: vec![name],
            point,
            value: value.map_or(serde_json::Value::Null, |value| json!(value)),
            quality: words.map(|words| format!("{}: {words}", quality.class())).unwrap_or_default(),
            note: notes.join("; "),
        })
    }
}

impl Errand for Offers {
    fn next(&mut self, ways: &Ways, now: Instant) -> Step {
        let nothing = || Step::Done(Box::new(Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new())))));
        loop {
            while let Some(event) = self.told.pop_front() {
                match self.sought.events.try_send(event) {
                    Ok(()) => {}
                    Err(TrySendError::Full(event)) => {
                        self.told.push_front(event);
                        return Step::Wait(now + TAKEN_LATER);
                    }
                    // Whoever listened has gone: there is nobody to tell.
                    Err(TrySendError::Closed(_)) => return nothing(),
                }
            }
            match &mut self.phase {
                Phase::List => match self.list(None) {
                    Some(data) => return Step::Ask(ConfirmedService::READ_PROPERTY, data),
                    None => return nothing(),
                },
                Phase::Length => match self.list(Some(0)) {
                    Some(data) => return Step::Ask(ConfirmedService::READ_PROPERTY, data),
                    None => return nothing(),
                },
                Phase::Elements(many) => {
                    if let Some((service, data)) = many.next(ways) {
                        return Step::Ask(service, data);
                    }
                    let told: Vec<_> = std::mem::take(many).results().collect();
                    let one = |(_, told): (Wanted, Option<Result<Content, Unread>>)| told?.ok()?.one();
                    self.listed(told.into_iter().filter_map(one));
                }
                Phase::Objects(objects, many) => {
                    if let Some((service, data)) = many.next(ways) {
                        return Step::Ask(service, data);
                    }
                    let (objects, many) = (std::mem::take(objects), std::mem::take(many));
                    self.described(&objects, many);
                }
                Phase::Next => self.next_objects(ways),
                Phase::Over => return nothing(),
            }
        }
    }

    fn answered(&mut self, ways: &mut Ways, reply: Reply) {
        self.requests += 1;
        match &mut self.phase {
            Phase::List => match reply.outcome {
                Ok(data) => match ReadPropertyAck::decode(&data).ok().and_then(|told| told.value.values().ok()) {
                    Some(values) => self.listed(values),
                    None => self.phase = Phase::Length,
                },
                Err(failure) => match meaning(ConfirmedService::READ_PROPERTY, &failure) {
                    Meaning::Silent if matches!(failure, interlex_bacnet::Failure::Timeout) => self.failed(&failure),
                    // It cannot tell all of it at once.
                    _ => self.phase = Phase::Length,
                },
            },
            Phase::Length => {
                let told = reply.outcome.map_err(|failure| failure.to_string()).and_then(|data| {
                    let told = ReadPropertyAck::decode(&data).map_err(|error| error.to_string())?;
                    told.value
                        .one()
                        .and_then(|one| one.as_unsigned())
                        .ok_or_else(|| "it does not say how many objects it has".to_owned())
                });
                match told {
                    Ok(count) => {
                        let count = u32::try_from(count).unwrap_or(MOST_OBJECTS).min(MOST_OBJECTS);
                        let Some(object) = ObjectIdentifier::device(self.sought.instance) else { return };
                        let element = |index| Wanted {
                            object,
                            reference: PropertyReference {
                                property: PropertyIdentifier::OBJECT_LIST,
                                index: Some(index),
                            },
                            octets: 5,
                        };

                        self.phase = Phase::Elements(ReadMany::new((1..=count).map(element).collect(), ways));
                    }
                    Err(why) => self.failed(&why),
                }
            }
            Phase::Elements(many) | Phase::Objects(_, many) => {
                if let Err(failure) = many.answered(ways, reply.outcome) {
                    self.failed(&failure);
                }
            }
            Phase::Next | Phase::Over => {}
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        if self.requests == 0 {
            return Answer::Found(Err(error));
        }
        Answer::Found(Ok(Box::new(vec![OfferEvent::Failed { why: error.to_string() }])))
    }
}
