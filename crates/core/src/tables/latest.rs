use crate::{PointIndex, Quality, Reason, TimeQuality, Timestamp, Value};
use arc_swap::ArcSwapOption;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering, fence};

/// The newest reading of every point of a gateway: one slot a point.
///
/// Each slot is a sequence lock. One writer at a time stores into a slot; readers never block it, and read
/// again when it moved under them. Numeric values live in the slot itself, text behind a shared pointer.
///
/// Slots stand in chunks, so that a table can be [grown](LatestTable::grown) for a new revision while links that
/// go on keep writing into the one they know.
#[derive(Debug)]
pub struct LatestTable {
    chunks: Vec<Arc<[Slot]>>,
    len: usize,
}

/// Slots per chunk: with the counts of who has it just below 64 KiB, so that a small gateway does not pay for a large one, and nothing
/// is lost between chunks.
const CHUNK: usize = 1023;
/// The bits of the quality among the tags.
const QUALITY: u64 = (1 << 48) - 1;
/// What the time is worth stands in the two highest bits of the kind of the raw value.
const TIME_QUALITY_AT: u32 = 54;
const TIME_QUALITY: u64 = 3 << TIME_QUALITY_AT;
const RAW_TAG: u8 = (1 << 6) - 1;

#[derive(Debug)]
struct Slot {
    /// Odd while the writer is at work; half of it is the number of stores so far.
    sequence: AtomicU64,
    value: AtomicU64,
    raw: AtomicU64,
    /// Value tag, raw tag (a byte each), then the quality in 48 bits.
    tags: AtomicU64,
    source_time: AtomicI64,
    gateway_time: AtomicI64,
    value_time: AtomicI64,
    text: ArcSwapOption<Arc<str>>,
}

/// What a slot holds: a consistent copy, never half old and half new.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The engineering value; the last one known while the quality is bad.
    pub value: Option<Value>,
    /// The value as the device sent it, before shaping.
    pub raw: Option<Value>,
    /// How far to trust it.
    pub quality: Quality,
    /// The field's own time where the protocol has one, else the gateway's.
    pub source_time: Timestamp,
    /// What that time is worth, as far as the field says something of it.
    pub time_quality: TimeQuality,
    /// When the gateway last heard, or last failed to hear, of this point.
    pub gateway_time: Timestamp,
    /// When the gateway read the value: what is bad keeps an old value, and this tells how old.
    pub value_time: Timestamp,
    /// Grows by one with every store; zero when the point was never read.
    pub version: u64,
}

impl LatestTable {
    /// A table of `points` slots, each `bad: never read`.
    #[must_use]
    pub fn new(points: usize) -> Self {
        Self { chunks: Vec::new(), len: 0 }.grown(points)
    }

    /// A table of at least `points` slots that shares those of this one: what is stored through either is read
    /// through both.
    #[must_use]
    pub fn grown(&self, points: usize) -> Self {
        let mut chunks = self.chunks.clone();
        chunks.resize_with(chunks.len().max(points.div_ceil(CHUNK)), || (0..CHUNK).map(|_| Slot::empty()).collect());
        Self { chunks, len: self.len.max(points) }
    }

    fn slot(&self, point: PointIndex) -> Option<&Slot> {
        let at = point.position();
        if at < self.len { self.chunks.get(at / CHUNK)?.get(at % CHUNK) } else { None }
    }

    /// How many points it holds.
    #[must_use]
    pub const fn len(&self) -> usize {
        self.len
    }

    /// Whether it holds none.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// How often the slot was stored into; cheaper than [`LatestTable::read`] to see whether it moved.
    #[must_use]
    pub fn version(&self, point: PointIndex) -> u64 {
        self.slot(point).map_or(0, |slot| slot.sequence.load(Ordering::Acquire) / 2)
    }

    /// The quality alone: cheaper than [`LatestTable::read`] where very many are looked at. `None` beyond the end.
    #[must_use]
    pub fn quality(&self, point: PointIndex) -> Option<Quality> {
        self.slot(point).map(|slot| Quality::from_bits(slot.tags.load(Ordering::Acquire) & QUALITY))
    }

    /// A consistent copy of one slot; `None` beyond the end.
    #[must_use]
    pub fn read(&self, point: PointIndex) -> Option<Reading> {
        self.slot(point).map(Slot::read)
    }

    /// Stores a reading. A `value` of `None` keeps the last one known, as a bad quality does.
    ///
    /// The caller sees to it that no two writers store into the same slot at once: a point belongs to one
    /// device, a device to one link, and a link to one task.
    pub fn store(
        &self,
        point: PointIndex,
        value: Option<(&Value, &Value)>,
        quality: Quality,
        source_time: Timestamp,
        gateway_time: Timestamp,
    ) {
        if let Some(slot) = self.slot(point) {
            slot.store(value, quality, (source_time, None), gateway_time);
        }
    }

    /// The same, with what the field says of its time; without a word of that, it stays what it was as long as the value stays.
    pub fn store_timed(
        &self,
        point: PointIndex,
        value: Option<(&Value, &Value)>,
        quality: Quality,
        source_time: (Timestamp, TimeQuality),
        gateway_time: Timestamp,
    ) {
        if let Some(slot) = self.slot(point) {
            slot.store(value, quality, (source_time.0, Some(source_time.1)), gateway_time);
        }
    }

    /// Forgets what was read: the point means something else from now on. Its writer must have stopped.
    pub fn forget(&self, point: PointIndex) {
        if let Some(slot) = self.slot(point) {
            slot.tags.store(0, Ordering::Relaxed);
            let never = Timestamp::from_millis(0);
            slot.store(None, Quality::Bad(Reason::NeverRead), (never, None), never);
        }
    }
}

impl Slot {
    fn empty() -> Self {
        Self {
            sequence: AtomicU64::new(0),
            value: AtomicU64::new(0),
            raw: AtomicU64::new(0),
            tags: AtomicU64::new(Quality::Bad(Reason::NeverRead).to_bits()),
            source_time: AtomicI64::new(0),
            gateway_time: AtomicI64::new(0),
            value_time: AtomicI64::new(0),
            text: ArcSwapOption::empty(),
        }
    }

    fn store(
        &self,
        value: Option<(&Value, &Value)>,
        quality: Quality,
        (source, time_quality): (Timestamp, Option<TimeQuality>),
        gateway: Timestamp,
    ) {
        let sequence = self.sequence.load(Ordering::Relaxed);
        self.sequence.store(sequence.wrapping_add(1), Ordering::Relaxed);
        fence(Ordering::Release);
        let tags = match value {
            None => self.tags.load(Ordering::Relaxed) & !QUALITY,
            Some((value, raw)) => {
                let ((value_tag, value_bits), (raw_tag, raw_bits)) = (pack(value), pack(raw));
                self.value.store(value_bits, Ordering::Relaxed);
                self.raw.store(raw_bits, Ordering::Relaxed);
                if let Value::Text(text) = value {
                    self.text.store(Some(Arc::new(Arc::clone(text))));
                }
                self.value_time.store(gateway.as_millis(), Ordering::Relaxed);
                u64::from(value_tag) << 56 | u64::from(raw_tag) << 48
            }
        };
        let tags = match time_quality {
            Some(time_quality) => tags & !TIME_QUALITY | u64::from(time_quality.number()) << TIME_QUALITY_AT,
            None => tags,
        };
        self.tags.store(tags | quality.to_bits(), Ordering::Relaxed);
        self.source_time.store(source.as_millis(), Ordering::Relaxed);
        self.gateway_time.store(gateway.as_millis(), Ordering::Relaxed);
        self.sequence.store(sequence.wrapping_add(2), Ordering::Release);
    }

    fn read(&self) -> Reading {
        loop {
            let before = self.sequence.load(Ordering::Acquire);
            if before.is_multiple_of(2) {
                let tags = self.tags.load(Ordering::Relaxed);
                let [value_tag, raw_tag, ..] = tags.to_be_bytes();
                let reading = Reading {
                    value: self.unpack(value_tag, self.value.load(Ordering::Relaxed)),
                    raw: self.unpack(raw_tag & RAW_TAG, self.raw.load(Ordering::Relaxed)),
                    quality: Quality::from_bits(tags & QUALITY),
                    source_time: Timestamp::from_millis(self.source_time.load(Ordering::Relaxed)),
                    time_quality: TimeQuality::of_number(raw_tag >> 6),
                    gateway_time: Timestamp::from_millis(self.gateway_time.load(Ordering::Relaxed)),
                    value_time: Timestamp::from_millis(self.value_time.load(Ordering::Relaxed)),
                    version: before / 2,
                };
                fence(Ordering::Acquire);
                if self.sequence.load(Ordering::Relaxed) == before {
                    return reading;
                }
            }
            std::hint::spin_loop();
        }
    }

    fn unpack(&self, tag: u8, bits: u64) -> Option<Value> {
        Some(match tag {
            1 => Value::Bool(bits != 0),
            2 => Value::Int(bits.cast_signed()),
            3 => Value::Uint(bits),
            4 => Value::Float32(f32::from_bits(u32::try_from(bits).unwrap_or_default())),
            5 => Value::Float64(f64::from_bits(bits)),
            6 => Value::Text(self.text.load().as_deref().map_or_else(|| "".into(), Arc::clone)),
            _ => return None,
        })
    }
}

fn pack(value: &Value) -> (u8, u64) {
    match value {
        Value::Bool(bit) => (1, u64::from(*bit)),
        Value::Int(int) => (2, int.cast_unsigned()),
        Value::Uint(uint) => (3, *uint),
        Value::Float32(float) => (4, u64::from(float.to_bits())),
        Value::Float64(float) => (5, float.to_bits()),
        Value::Text(_) => (6, 0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const POINT: PointIndex = PointIndex(0);

    #[test]
    fn a_fresh_slot_was_never_read_and_a_bad_reading_keeps_the_last_value() {
        let table = LatestTable::new(1);
        assert_eq!(table.read(POINT).unwrap().quality, Quality::Bad(Reason::NeverRead));
        let time = Timestamp::from_millis(5);
        for value in [
            Value::Bool(true),
            Value::Int(-3),
            Value::Uint(u64::MAX),
            Value::Float32(1.5),
            Value::Float64(-0.25),
            Value::Text("running".into()),
        ] {
            table.store(POINT, Some((&value, &value)), Quality::Good, time, time);
            let later = Timestamp::from_millis(9);
            table.store(POINT, None, Quality::Bad(Reason::Modbus(2)), later, later);
            let reading = table.read(POINT).unwrap();
            assert_eq!((reading.value_time, reading.gateway_time), (time, later), "the age of a value is the value's");
            assert_eq!((reading.value.as_ref(), reading.raw.as_ref()), (Some(&value), Some(&value)));
            assert_eq!(reading.quality, Quality::Bad(Reason::Modbus(2)));
        }
        assert_eq!(table.read(POINT).unwrap().version, 12);
        assert_eq!(table.read(PointIndex(1)), None);
    }

    #[test]
    fn what_a_time_is_worth_stays_as_long_as_its_value() {
        let (table, time) = (LatestTable::new(1), Timestamp::from_millis(5));
        let worth = || table.read(POINT).map(|reading| (reading.raw, reading.time_quality)).unwrap();
        let value = Value::Text("closed".into());
        table.store_timed(POINT, Some((&value, &value)), Quality::Good, (time, TimeQuality::Arrival), time);
        assert_eq!(worth(), (Some(value.clone()), TimeQuality::Arrival));
        table.store(POINT, None, Quality::Bad(Reason::LinkDown), time, time);
        assert_eq!(worth(), (Some(value.clone()), TimeQuality::Arrival));
        table.store(POINT, Some((&value, &value)), Quality::Good, time, time);
        assert_eq!(worth().1, TimeQuality::Unsaid);
    }

    #[test]
    fn a_grown_table_shares_its_slots_and_forgets_on_demand() {
        let small = LatestTable::new(1);
        let grown = small.grown(3000);
        assert_eq!((small.len(), grown.len(), grown.grown(5).len()), (1, 3000, 3000));
        let time = Timestamp::from_millis(5);
        small.store(POINT, Some((&Value::Uint(7), &Value::Uint(7))), Quality::Good, time, time);
        assert_eq!(grown.read(POINT).unwrap().value, Some(Value::Uint(7)));
        grown.store(PointIndex(2999), Some((&Value::Bool(true), &Value::Bool(true))), Quality::Good, time, time);
        assert_eq!(small.read(PointIndex(2999)), None);
        grown.forget(POINT);
        let reading = small.read(POINT).unwrap();
        assert_eq!((reading.value, reading.quality), (None, Quality::Bad(Reason::NeverRead)));
    }

    #[test]
    fn readers_never_see_half_of_two_readings() {
        let table = LatestTable::new(1);
        std::thread::scope(|scope| {
            let writer = scope.spawn(|| {
                for n in 0..200_000_u32 {
                    let (value, time) = (Value::Uint(n.into()), Timestamp::from_millis(n.into()));
                    table.store(POINT, Some((&value, &value)), Quality::Good, time, time);
                }
            });
            while !writer.is_finished() {
                let reading = table.read(POINT).unwrap();
                let Some(Value::Uint(value)) = reading.value else { continue };
                assert_eq!(value, reading.source_time.as_unsigned_millis());
                assert_eq!(value, reading.gateway_time.as_unsigned_millis());
                assert_eq!(value + 1, reading.version);
            }
        });
    }
}
