//! What is read of a device, the points that show it, and what is told of them.

use super::many::{Lengths, Unread, Wanted};
use super::mapping::{FAULT, flags, found_type, quality, unread, value};
use super::watching::Watched;
use crate::link::PlannedDevice;
use interlex_bacnet::{Content, ObjectIdentifier, ObjectType, PropertyIdentifier, PropertyReference, Value as Told};
use interlex_core::description::{BacnetAddress, Name, Span, Watching};
use interlex_core::{DataType, PointIndex, RawSample, Reason};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// A property that is read, with the points that show it.
#[derive(Debug, Clone)]
pub(super) struct Item {
    pub(super) object: ObjectIdentifier,
    pub(super) reference: PropertyReference,
    pub(super) period: Duration,
    pub(super) readers: Vec<Reader>,
    /// Whether changes of it are to be subscribed to.
    pub(super) is_watchable: bool,
    /// Whether its object says with it how far it can be trusted.
    has_flags: bool,
    /// Why it cannot be trusted, as far as it was read.
    wants_reliability: bool,
    reliability: u16,
    /// Octets of its last value.
    octets: usize,
    /// Why it gives no value, and until when it is left alone.
    bad: Option<(Reason, Duration, Instant)>,
    pub(super) was_tried: bool,
    /// What was told last: value and flags.
    pub(super) last: Option<(Content, u8)>,
}

/// A point that shows it.
#[derive(Debug, Clone)]
pub(super) struct Reader {
    pub(super) point: PointIndex,
    address: BacnetAddress,
    data_type: DataType,
    /// Whether its device says its type.
    is_auto: bool,
}

/// How long what gives no value is left alone: at first, and at the most.
const ALONE: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(60));
/// Octets of a text, as long as none was read.
const TEXT: usize = 40;

pub(super) fn object(address: BacnetAddress) -> Option<ObjectIdentifier> {
    ObjectIdentifier::new(ObjectType::new(address.object_type)?, address.instance)
}

pub(super) fn reference(address: BacnetAddress) -> PropertyReference {
    PropertyReference { property: PropertyIdentifier(address.property), index: address.index }
}

/// What is read for the points of a device.
pub(super) fn items(planned: &PlannedDevice, rates: &BTreeMap<Name, Span>, only_asked: bool) -> Vec<Item> {
    let mut items: Vec<Item> = Vec::new();
    let mut known = BTreeMap::new();
    for (point, index) in planned.device.points.iter().zip(&*planned.points) {
        let Some((address, own)) = point.bacnet() else { continue };
        let Some(object) = object(address) else { continue };
        // The checks let no point pass whose rate is unknown.
        let period = rates.get(&point.settings.rate).copied().map_or(Duration::from_secs(1), Duration::from);
        let data_type = point.raw_type();
        let reader = Reader { point: *index, address, data_type, is_auto: data_type == DataType::Auto };
        let is_watchable = !only_asked && own.watch == Watching::Subscribe;
        let key = (object, reference(address), period, is_watchable);
        let place = *known.entry(key).or_insert(items.len());
        match items.get_mut(place) {
            Some(item) => item.readers.push(reader),
            None => items.push(Item::new(object, reference(address), period, is_watchable, reader)),
        }
    }
    items
}

impl Item {
    fn new(
        object: ObjectIdentifier,
        reference: PropertyReference,
        period: Duration,
        is_watchable: bool,
        reader: Reader,
    ) -> Self {
        let is_text = matches!(reader.data_type, DataType::String(_) | DataType::Auto);
        Self {
            object,
            has_flags: reference == PropertyIdentifier::PRESENT_VALUE.into(),
            reference,
            period,
            octets: if is_text { TEXT } else { 5 },
            readers: vec![reader],
            is_watchable,
            wants_reliability: false,
            reliability: 0,
            bad: None,
            was_tried: false,
            last: None,
        }
    }

    /// By what it is watched.
    pub(super) const fn watched(&self) -> Watched {
        (self.object, self.reference)
    }

    /// Whether it is the value of its object, whose status flags come with it.
    pub(super) const fn is_value(&self) -> bool {
        self.reference.property.0 == PropertyIdentifier::PRESENT_VALUE.0 && self.reference.index.is_none()
    }

    /// Whether it is left alone now.
    pub(super) fn is_left_alone(&self, now: Instant) -> bool {
        self.bad.is_some_and(|(.., until)| until > now)
    }

    /// Why it gives no value, where it gives none.
    pub(super) fn bad(&self) -> Option<Reason> {
        self.bad.map(|(reason, ..)| reason)
    }

    /// It is tried anew.
    pub(super) const fn forgive(&mut self) {
        self.bad = None;
        self.has_flags = self.is_value();
    }

    /// What is asked for.
    pub(super) fn wanted(&self) -> impl Iterator<Item = Wanted> {
        let object = self.object;
        let of = |reference: PropertyReference, octets| Wanted { object, reference, octets };
        let flags = self.has_flags.then(|| of(PropertyIdentifier::STATUS_FLAGS.into(), 3));
        let reliability = self.wants_reliability.then(|| of(PropertyIdentifier::RELIABILITY.into(), 2));
        [Some(of(self.reference, self.octets)), flags, reliability].into_iter().flatten()
    }

    /// How long a request becomes with it, and its answer.
    pub(super) fn lengthens(&self, lengths: Lengths) -> Lengths {
        self.wanted().fold(lengths, |lengths, wanted| lengths.with(&wanted))
    }

    /// One of the properties that were asked for is known, or why not.
    pub(super) fn take(&mut self, reading: &mut Reading, wanted: &Wanted, told: Result<Content, Unread>) {
        match wanted.reference.property {
            PropertyIdentifier::STATUS_FLAGS if wanted.reference != self.reference => match told {
                Ok(content) => reading.flags = flags(&content),
                Err(Unread::Error(_)) => self.has_flags = false,
                Err(_) => {}
            },
            PropertyIdentifier::RELIABILITY if wanted.reference != self.reference => {
                let number = told.ok().and_then(|content| content.one()).and_then(|value| value.as_unsigned());
                self.reliability = number.and_then(|number| u16::try_from(number).ok()).unwrap_or(0);
                reading.reliability = Some(self.reliability);
            }
            _ => reading.value = Some(told),
        }
    }

    /// A whole reading is there: what is told of it, and whether it is to be read once more for why it cannot be trusted.
    pub(super) fn read(
        &mut self,
        reading: Reading,
        now: Instant,
        batch: &mut Vec<RawSample>,
        types: &mut Vec<(PointIndex, DataType)>,
    ) -> bool {
        self.was_tried = true;
        let Some(told) = reading.value else { return false };
        match told {
            Ok(content) => {
                self.bad = None;
                self.octets = content.octets().len();
                let flags = reading.flags.unwrap_or(0);
                self.tell(content, flags, batch, types)
            }
            Err(why) => {
                self.fail(unread(&why), now, batch);
                false
            }
        }
    }

    /// It gives no value, and is left alone for a while.
    pub(super) fn fail(&mut self, reason: Reason, now: Instant, batch: &mut Vec<RawSample>) {
        self.was_tried = true;
        self.last = None;
        let wait = self.bad.map_or(ALONE.0, |(_, wait, _)| (wait * 2).min(ALONE.1));
        self.bad = Some((reason, wait, now + wait));
        batch.extend(self.readers.iter().map(|reader| RawSample::failed(reader.point, reason)));
    }

    /// A value with its flags is told to the points; tells whether why it cannot be trusted is to be read.
    pub(super) fn tell(
        &mut self,
        content: Content,
        flags: u8,
        batch: &mut Vec<RawSample>,
        types: &mut Vec<(PointIndex, DataType)>,
    ) -> bool {
        // What is told with another property says nothing of that.
        let flags = if self.is_value() { flags } else { 0 };
        let is_fault = flags & FAULT != 0;
        let is_news = is_fault && !self.wants_reliability && self.has_flags;
        self.wants_reliability = is_fault && self.has_flags;
        if !is_fault {
            self.reliability = 0;
        }
        let quality = quality(flags, self.reliability);
        for reader in &mut self.readers {
            if reader.is_auto
                && let Some(found) = found_type(&content)
                && (found != reader.data_type)
            {
                reader.data_type = found;
                types.push((reader.point, found));
            }
            batch.push(match value(&content, reader.address, reader.data_type) {
                Some(value) => RawSample { quality, ..RawSample::read(reader.point, value) },
                None => RawSample::failed(reader.point, Reason::ProtocolError),
            });
        }
        self.last = Some((content, flags));
        is_news
    }

    /// Whether a value that was read is so far from what was told of changes that one was missed.
    pub(super) fn is_other(&self, read: &Content, flags: Option<u8>, increment: Option<f64>) -> bool {
        let Some((told, told_flags)) = &self.last else { return true };
        if flags.is_some_and(|flags| flags != *told_flags) {
            return true;
        }
        match (told.one(), read.one(), increment) {
            (Some(before), Some(now), Some(increment)) => match (before.as_f64(), now.as_f64()) {
                // Rounding is no change.
                (Some(before), Some(now)) => (now - before).abs() > increment * (1.0 + 1e-6),
                _ => before != now,
            },
            (before, now, _) => before != now,
        }
    }

    /// Whether its value is a number that moves, of which small moves are not told.
    pub(super) fn has_increment(&self) -> bool {
        matches!(self.last.as_ref().and_then(|(told, _)| told.one()), Some(Told::Real(_) | Told::Double(_)) | None)
            && !self.object.object_type().is_binary()
            && !self.object.object_type().is_multi_state()
    }
}

impl Reader {
    /// What a value with its flags, as it was once, says of the point.
    pub(super) fn sample(&self, content: &Content, flags: u8) -> RawSample {
        match value(content, self.address, self.data_type) {
            Some(value) => RawSample { quality: quality(flags, 0), ..RawSample::read(self.point, value) },
            None => RawSample::failed(self.point, Reason::ProtocolError),
        }
    }
}

/// What was read of an item so far.
#[derive(Debug, Default)]
pub(super) struct Reading {
    pub(super) value: Option<Result<Content, Unread>>,
    pub(super) flags: Option<u8>,
    reliability: Option<u16>,
}
