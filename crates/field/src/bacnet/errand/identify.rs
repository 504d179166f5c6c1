use super::read::plain;
use super::{Errand, Reply, Step, device_error};
use crate::bacnet::many::{ReadMany, Unread, Wanted};
use crate::bacnet::ways::Ways;
use crate::error::TrialError;
use crate::link::{Answer, End, FrameView, IdentityObject, TrialIdentity};
use interlex_bacnet::{Content, ObjectIdentifier, PropertyIdentifier};
use std::time::Instant;

/// Asks a device who it is.
#[derive(Debug)]
pub(in crate::bacnet) struct Identify {
    instance: u32,
    many: Option<ReadMany>,
    frames: Vec<FrameView>,
    done: Option<Result<TrialIdentity, TrialError>>,
}

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
    pub(in crate::bacnet) const fn new(instance: u32) -> Self {
        Self { instance, many: None, frames: Vec::new(), done: None }
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
            let objects: Vec<_> = objects.collect();
            let frames = std::mem::take(&mut self.frames);
            self.done = Some(if objects.is_empty() {
                Err(device_error(instance, &"it says nothing of itself: its instance may be another", frames))
            } else {
                Ok(TrialIdentity { conformity: None, objects, frames })
            });
        }
    }

    fn answered(&mut self, ways: &mut Ways, reply: Reply) {
        self.frames.extend(reply.frames);
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
