use super::read::plain;
use super::{Errand, Reply, Step, device_error};
use crate::bacnet::many::{ReadMany, Unread, Wanted};
use crate::bacnet::ways::Ways;
use crate::error::TrialError;
use crate::link::{Answer, End, FrameView, IdentityObject, TrialIdentity};
use interlex_bacnet::{
    ConfirmedService, Content, EventSummary, Failure, GetEventInformation, GetEventInformationAck, ObjectIdentifier,
    PropertyIdentifier,
};
use std::time::Instant;

/// Asks a device who it is.
#[derive(Debug)]
pub(in crate::bacnet) struct Identify {
    instance: u32,
    many: Option<ReadMany>,
    said: Vec<IdentityObject>,
    events: Events,
    frames: Vec<FrameView>,
    done: Option<Result<TrialIdentity, TrialError>>,
}

/// What is the case at its objects: the last one that it told of, and what was told so far.
#[derive(Debug, Default)]
struct Events {
    is_asked: bool,
    after: Option<ObjectIdentifier>,
    told: Vec<String>,
    requests: u32,
}

/// So many requests are made for what is the case at objects.
const MOST_REQUESTS: u32 = 20;

const ASKED: [PropertyIdentifier; 12] = [
    PropertyIdentifier::OBJECT_NAME,
    PropertyIdentifier::VENDOR_NAME,
    PropertyIdentifier::MODEL_NAME,
    PropertyIdentifier::DESCRIPTION,
    PropertyIdentifier::LOCATION,
    PropertyIdentifier::FIRMWARE_REVISION,
    PropertyIdentifier::APPLICATION_SOFTWARE_VERSION,
    PropertyIdentifier::PROTOCOL_REVISION,
    PropertyIdentifier::MAX_APDU_LENGTH_ACCEPTED,
    PropertyIdentifier::SEGMENTATION_SUPPORTED,
    PropertyIdentifier::LOCAL_DATE,
    PropertyIdentifier::LOCAL_TIME,
];

impl Identify {
    pub(in crate::bacnet) fn new(instance: u32) -> Self {
        Self { instance, many: None, said: Vec::new(), events: Events::default(), frames: Vec::new(), done: None }
    }

    /// All that it says of itself, with what is the case at its objects.
    fn finish(&mut self) {
        if !self.events.told.is_empty() {
            let (id, name) = (u8::try_from(self.said.len()).unwrap_or(u8::MAX), "objects not normal".to_owned());
            self.said.push(IdentityObject { id, name, value: self.events.told.join(", ") });
        }
        let (objects, frames) = (std::mem::take(&mut self.said), std::mem::take(&mut self.frames));
        self.done = Some(Ok(TrialIdentity { conformity: None, objects, frames }));
    }

    /// What is the case at objects, a part at a time; nothing of devices that do not know it.
    fn take_events(&mut self, outcome: Result<Vec<u8>, Failure>) {
        let told = outcome.ok().and_then(|data| GetEventInformationAck::decode(&data).ok()).unwrap_or_default();
        let unseen = |summary: &EventSummary| {
            if (0..3).all(|at| summary.acknowledged.has(at)) { "" } else { " (not acknowledged)" }
        };
        self.events
            .told
            .extend(told.summaries.iter().map(|one| format!("{} {}{}", one.object, one.state, unseen(one))));
        self.events.requests += 1;
        self.events.after = told.summaries.last().map(|last| last.object).filter(|_| told.has_more);
        if self.events.after.is_none() || self.events.requests >= MOST_REQUESTS {
            self.finish();
        }
    }
}

/// Some properties of a device object.
pub(in crate::bacnet) fn properties_of_devices(instance: u32, properties: &[PropertyIdentifier]) -> Vec<Wanted> {
    let Some(object) = ObjectIdentifier::device(instance) else { return Vec::new() };
    properties.iter().map(|property| Wanted { object, reference: (*property).into(), octets: 30 }).collect()
}

/// What a device says of itself, in a line.
#[derive(Debug, Default)]
pub(in crate::bacnet) struct Appearance(Vec<String>);

impl Appearance {
    pub(in crate::bacnet) const ASKED: [PropertyIdentifier; 4] = [
        PropertyIdentifier::OBJECT_NAME,
        PropertyIdentifier::VENDOR_NAME,
        PropertyIdentifier::MODEL_NAME,
        PropertyIdentifier::DESCRIPTION,
    ];

    pub(in crate::bacnet) fn of(many: ReadMany) -> (Option<String>, Self) {
        let told = many.results().map(|(_, told)| told.and_then(Result::ok).map(|told| plain(&told)));
        let mut told: Vec<_> = told.collect();
        let name = if told.is_empty() { None } else { told.remove(0) };
        (name, Self(told.into_iter().flatten().filter(|text| !text.is_empty()).collect()))
    }
}

impl std::fmt::Display for Appearance {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0.join(", "))
    }
}

impl Errand for Identify {
    fn next(&mut self, ways: &Ways, _: Instant) -> Step {
        loop {
            if let Some(done) = self.done.take() {
                return Step::Done(Box::new(Answer::Found(done.map(|told| Box::new(told) as _))));
            }
            if self.events.is_asked {
                let mut data = Vec::new();
                GetEventInformation { after: self.events.after }.encode(&mut data);
                return Step::Ask(ConfirmedService::GET_EVENT_INFORMATION, data);
            }
            let instance = self.instance;
            let many = self.many.get_or_insert_with(|| ReadMany::new(properties_of_devices(instance, &ASKED), ways));
            if let Some((service, data)) = many.next(ways) {
                return Step::Ask(service, data);
            }
            let told: Vec<(Wanted, Option<Result<Content, Unread>>)> = std::mem::take(many).results().collect();
            let objects = (0_u8..).zip(&told).filter_map(|(id, (wanted, told))| {
                let value = plain(told.as_ref()?.as_ref().ok()?);
                Some(IdentityObject { id, name: wanted.reference.to_string(), value })
            });
            self.said = objects.collect();
            if self.said.is_empty() {
                let frames = std::mem::take(&mut self.frames);
                let why = "it says nothing of itself: its instance may be another";
                self.done = Some(Err(device_error(instance, &why, frames)));
            }
            self.events.is_asked = true;
        }
    }

    fn answered(&mut self, ways: &mut Ways, reply: Reply) {
        self.frames.extend(reply.frames);
        if self.events.is_asked {
            return self.take_events(reply.outcome);
        }
        let Some(many) = &mut self.many else { return };
        if let Err(failure) = many.answered(ways, reply.outcome) {
            let frames = std::mem::take(&mut self.frames);
            self.done = Some(Err(device_error(self.instance, &failure, frames)));
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Found(Err(end.error()))
    }
}
