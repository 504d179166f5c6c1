//! What the trend logs of a device recorded while it was out of reach, had back in order and once each: no I/O.

use super::item::Item;
use super::log_time::LogClock;
use super::many::{ReadMany, Wanted};
use super::mapping::{flags, unread};
use super::memory::{DeviceMemory, Position};
use super::ways::Ways;
use interlex_bacnet::{
    ConfirmedService, Content, DateTime, Failure, LogDatum, LogRecord, ObjectIdentifier, ObjectType,
    PropertyIdentifier, Range, ReadProperty, ReadPropertyAck, ReadRange, ReadRangeAck, Value as Told,
};
use interlex_core::{RawSample, Reason, SampleKind, Timestamp};
use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

/// Has back what is missing.
#[derive(Debug)]
pub(super) struct Backfill {
    instance: u32,
    memory: Arc<DeviceMemory>,
    /// Which log is known to record what, by the places of what is read.
    described: BTreeMap<u32, usize>,
    /// The same with what was found; none before it was looked for.
    logs: Option<BTreeMap<u32, usize>>,
    clock: LogClock,
    /// From when to when something is missing, in milliseconds since 1970 UTC.
    gap: Option<(i64, i64)>,
    waiting: VecDeque<u32>,
    step: Step,
}

#[derive(Debug)]
enum Step {
    Idle,
    /// The objects of the device are asked for.
    List,
    /// What the logs among them record, and how its clock stands.
    References(Vec<ObjectIdentifier>, ReadMany),
    /// Records of a log, from a moment or a number on.
    Records {
        log: u32,
        from: Option<u32>,
        last: Option<i64>,
        told: usize,
    },
}

/// So many records are asked for at a time; a device tells as many as fit.
const AT_ONCE: i16 = 200;
/// A log is read no further than this in one gap.
const MOST_RECORDS: usize = 100_000;
/// So many logs of a device are looked at.
const MOST_LOGS: usize = 500;
/// What is missing for less than this is no gap.
const LEAST: i64 = 1000;

impl Backfill {
    /// For a device whose logs are described, as far as they are.
    pub(super) fn new(
        instance: u32,
        memory: Arc<DeviceMemory>,
        described: BTreeMap<u32, usize>,
        clock: LogClock,
    ) -> Self {
        let (logs, gap, waiting, step) = (None, None, VecDeque::new(), Step::Idle);
        Self { instance, memory, described, logs, clock, gap, waiting, step }
    }

    /// The device tells its values again, or for the first time: what it recorded since it was heard last is missing.
    pub(super) fn is_back(&mut self, utc_millis: i64) {
        let from = self.gap.map_or_else(|| self.memory.whole_until(), |(from, _)| Some(from));
        match from {
            Some(from) if utc_millis - from >= LEAST => {
                self.gap = Some((from, utc_millis));
                self.begin();
            }
            _ => self.memory.is_whole_until(utc_millis),
        }
    }

    /// It was heard: unless something before is missing yet, all is whole until now.
    pub(super) fn is_heard(&self, utc_millis: i64) {
        if self.gap.is_none() {
            self.memory.is_whole_until(utc_millis);
        }
    }

    /// It is away: what is under way begins anew later.
    pub(super) fn is_away(&mut self) {
        self.step = Step::Idle;
        self.waiting.clear();
    }

    fn begin(&mut self) {
        match &self.logs {
            Some(logs) => {
                self.waiting = logs.keys().copied().collect();
                self.next_log();
            }
            None => self.step = Step::List,
        }
    }

    fn next_log(&mut self) {
        match self.waiting.pop_front() {
            Some(log) => self.step = Step::Records { log, from: None, last: None, told: 0 },
            None => {
                self.step = Step::Idle;
                if let Some((_, to)) = self.gap.take() {
                    self.memory.is_whole_until(to);
                }
            }
        }
    }

    /// Whether something is to be asked for.
    pub(super) const fn is_due(&self) -> bool {
        !matches!(self.step, Step::Idle)
    }

    /// What is asked for next.
    pub(super) fn next(&mut self, ways: &Ways) -> Option<(ConfirmedService, Vec<u8>)> {
        let mut data = Vec::new();
        match &mut self.step {
            Step::Idle => None,
            Step::List => {
                let object = ObjectIdentifier::device(self.instance)?;
                ReadProperty { object, reference: PropertyIdentifier::OBJECT_LIST.into() }.encode(&mut data);
                Some((ConfirmedService::READ_PROPERTY, data))
            }
            Step::References(_, many) => many.next(ways),
            Step::Records { log, from, .. } => {
                let (start, _) = self.gap?;
                let object = ObjectIdentifier::new(ObjectType::TREND_LOG, *log)?;
                let range = match from {
                    Some(number) => Range::Sequence(*number, AT_ONCE),
                    None => Range::Time(DateTime::of_local_millis(self.clock.local(start))?, AT_ONCE),
                };
                let reference = PropertyIdentifier::LOG_BUFFER.into();
                ReadRange { object, reference, range: Some(range) }.encode(&mut data);
                Some((ConfirmedService::READ_RANGE, data))
            }
        }
    }

    /// What came of it; an error says that the device is silent.
    pub(super) fn answered(
        &mut self,
        ways: &mut Ways,
        outcome: Result<Vec<u8>, Failure>,
        items: &[Item],
        batch: &mut Vec<RawSample>,
    ) -> Result<(), Failure> {
        if outcome == Err(Failure::Timeout) && !matches!(self.step, Step::References(..)) {
            return Err(Failure::Timeout);
        }
        match std::mem::replace(&mut self.step, Step::Idle) {
            Step::Idle => {}
            Step::List => {
                let told = outcome.ok().and_then(|data| ReadPropertyAck::decode(&data).ok()?.value.values().ok());
                let log = |value| match value {
                    Told::ObjectIdentifier(object) if object.object_type() == ObjectType::TREND_LOG => Some(object),
                    _ => None,
                };
                let logs: Vec<_> = told.unwrap_or_default().into_iter().filter_map(log).take(MOST_LOGS).collect();
                self.look_at(logs, ways);
            }
            Step::References(logs, mut many) => {
                many.answered(ways, outcome)?;
                self.step = Step::References(logs, many);
                self.referenced(items);
            }
            Step::Records { log, from, last, told } => match outcome {
                Ok(data) => self.take((log, from, last, told), &data, items, batch),
                // A log that is not to be read has nothing to give.
                Err(_) => self.next_log(),
            },
        }
        Ok(())
    }

    fn look_at(&mut self, logs: Vec<ObjectIdentifier>, ways: &Ways) {
        let of = |object, property: PropertyIdentifier| Wanted { object, reference: property.into(), octets: 12 };
        let device = ObjectIdentifier::device(self.instance);
        let clock = device.into_iter().flat_map(|device| {
            [of(device, PropertyIdentifier::UTC_OFFSET), of(device, PropertyIdentifier::DAYLIGHT_SAVINGS_STATUS)]
        });
        let references = logs.iter().map(|log| of(*log, PropertyIdentifier::LOG_DEVICE_OBJECT_PROPERTY));
        let many = ReadMany::new(clock.chain(references).collect(), ways);
        self.step = Step::References(logs, many);
    }

    /// What the logs record is known, once nothing is asked any more.
    fn referenced(&mut self, items: &[Item]) {
        let Step::References(_, many) = &mut self.step else { return };
        if !many.is_over() {
            return;
        }
        let many = std::mem::take(many);
        let mut logs = self.described.clone();
        for (wanted, told) in many.results() {
            let Some(Ok(content)) = told else { continue };
            match wanted.reference.property {
                PropertyIdentifier::UTC_OFFSET => {
                    if let Some(Told::Signed(minutes)) = content.one() {
                        self.clock.utc_offset = minutes;
                    }
                }
                PropertyIdentifier::DAYLIGHT_SAVINGS_STATUS => {
                    if let Some(Told::Boolean(is_summer)) = content.one() {
                        self.clock.is_summer = Some(is_summer);
                    }
                }
                _ => {
                    let Some((object, property, device)) = content.referenced() else { continue };
                    let is_own = device.is_none_or(|device| device.instance() == self.instance);
                    let is_it = |item: &Item| item.object == object && item.reference == property.into();
                    if let Some(at) = items.iter().position(is_it).filter(|_| is_own) {
                        logs.entry(wanted.object.instance()).or_insert(at);
                    }
                }
            }
        }
        self.logs = Some(logs);
        self.begin();
    }

    fn take(
        &mut self,
        (log, from, mut last, mut told): (u32, Option<u32>, Option<i64>, usize),
        data: &[u8],
        items: &[Item],
        batch: &mut Vec<RawSample>,
    ) {
        let Some((start, end)) = self.gap else { return self.next_log() };
        let item = self.logs.as_ref().and_then(|logs| items.get(*logs.get(&log)?));
        let ack = ReadRangeAck::decode(data).ok();
        let is_it = |ack: &ReadRangeAck| {
            ack.object.instance() == log && ack.reference.property == PropertyIdentifier::LOG_BUFFER
        };
        let (Some(item), Some(ack)) = (item, ack.filter(is_it)) else { return self.next_log() };
        let records = LogRecord::decode_all(&ack.items).unwrap_or_default();
        // Without a number nobody knows which ones come next.
        let (Some(first), false) = (ack.first_sequence, records.is_empty()) else { return self.next_log() };
        if from.is_some_and(|from| from != first) {
            // What lay between has gone, or the log was emptied.
            batch.extend(missing(item, last.unwrap_or(start) + 1));
        }
        let known = self.memory.read(log);
        let mut sequence = first;
        for record in &records {
            let local = record.at.local_millis();
            let (at, time_quality) = local
                .map_or((last.unwrap_or(start), interlex_core::TimeQuality::Arrival), |local| {
                    self.clock.utc(local, last)
                });
            if at >= end || told >= MOST_RECORDS {
                return self.next_log();
            }
            let position = Position { sequence, local_millis: local.unwrap_or(i64::MAX) };
            let is_known = known.is_some_and(|known| {
                // Numbers begin anew where a log was emptied: then its times are later all the same.
                known.sequence.wrapping_sub(sequence) < u32::MAX / 2 && position.local_millis <= known.local_millis
            });
            if at > start && !is_known {
                let samples = samples(item, record);
                told += 1;
                batch.extend(samples.map(|sample| RawSample {
                    source_time: Some(Timestamp::from_millis(at)),
                    time_quality,
                    kind: SampleKind::Past,
                    ..sample
                }));
                self.memory.is_read(log, position);
            }
            last = Some(at);
            sequence = next(sequence);
        }
        self.step = Step::Records { log, from: Some(sequence), last, told };
    }
}

/// Behind the last number comes 1.
const fn next(sequence: u32) -> u32 {
    if sequence == u32::MAX { 1 } else { sequence + 1 }
}

/// Something is missing from a moment on.
fn missing(item: &Item, at: i64) -> impl Iterator<Item = RawSample> + '_ {
    item.readers.iter().map(move |reader| RawSample {
        source_time: Some(Timestamp::from_millis(at)),
        kind: SampleKind::Past,
        ..RawSample::failed(reader.point, Reason::Overflow)
    })
}

/// What a record says of each point.
fn samples<'a>(item: &'a Item, record: &'a LogRecord) -> impl Iterator<Item = RawSample> + 'a {
    let flags = record.status_flags.clone().and_then(|bits| flags(&Content::of(&[bits.into()]))).unwrap_or(0);
    item.readers.iter().map(move |reader| match &record.datum {
        LogDatum::Value(value) => reader.sample(&Content::of(std::slice::from_ref(value)), flags),
        LogDatum::Other(content) => reader.sample(content, flags),
        LogDatum::Failure(error) => RawSample::failed(reader.point, unread(&super::many::Unread::Error(*error))),
        // The log was interrupted, emptied, or the clock was set: what lies between is not known.
        LogDatum::Status { .. } | LogDatum::TimeChange(_) => RawSample::failed(reader.point, Reason::Overflow),
    })
}
