//! Samples as the journal keeps them: compact, and with points by numbers of the database, since indices change with every
//! revision.

mod bytes;
mod columns;
mod named;

use super::numbers::PointNumbers;
use bytes::{put, take};
use columns::{Values, put_rare, put_runs, take_rare, take_runs};
use interlex_core::{DataType, PointIndex, PointTable, Quality, Sample, SampleKind, TimeQuality, Timestamp, Value};

/// The first byte of blocks that name their points.
const NAMED: u8 = 1;
/// The first byte of blocks that number them.
const NUMBERED: u8 = 2;
/// Where the kind stands above the bits of the quality, and above that what the time is worth.
const KIND: u32 = 48;
const TIME_QUALITY: u32 = 50;
/// What one sample takes at the least: a value.
const LEAST: usize = 1;

/// A block that cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum BlockError {
    /// It was written by another version.
    #[error("version {0} of the journal is not known")]
    Version(u8),
    /// It ends too early, or holds what no block holds.
    #[error("the block is damaged")]
    Damaged,
}

/// What a block holds of one sample that is of no use any more: its point is described no more, or has another type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Unknown {
    /// When it came.
    pub(super) came: Timestamp,
}

/// A point that a block has samples of: its index, and the type that its values have now; `None` when it is gone.
#[derive(Debug, Clone, Copy)]
struct Known(Option<(PointIndex, DataType)>);

impl Known {
    fn find(points: &PointTable, device: &str, point: &str) -> Self {
        Self(points.find(device, point).and_then(|info| Some((info.index, info.value_type()?))))
    }
}

/// Writes samples into a block, in the order in which they came; those of points without a number are left out.
///
/// ```text
/// version · count · points · times · source times · qualities with kinds · values
/// ```
///
/// Points and times are written as differences to the one before, which are one more, and the same, as a rule. Source times are
/// differences to the times. Whole numbers, and doubles that are decimal fractions, are differences to the value before of
/// the same point.
pub(super) fn encode(samples: &[Sample], points: &PointTable, numbers: &PointNumbers) -> Vec<u8> {
    let number_of = |sample: &Sample| points.get(sample.point).and_then(|info| numbers.of(info));
    let known: Vec<_> = samples.iter().filter_map(|sample| Some((number_of(sample)?, sample))).collect();
    let mut out = vec![NUMBERED];
    put(known.len() as u64, &mut out);
    let mut before = 0_u64;
    let steps = known.iter().map(|(number, _)| {
        let last = std::mem::replace(&mut before, *number);
        number.wrapping_sub(last).wrapping_sub(1).cast_signed()
    });
    put_rare(steps, &mut out);
    let mut before = 0_i64;
    let times = known.iter().map(|(_, sample)| {
        let at = sample.gateway_time.as_millis();
        at.wrapping_sub(std::mem::replace(&mut before, at))
    });
    put_rare(times, &mut out);
    let ages =
        known.iter().map(|(_, sample)| sample.gateway_time.as_millis().wrapping_sub(sample.source_time.as_millis()));
    put_rare(ages, &mut out);
    put_runs(known.iter().map(|(_, sample)| tags(sample)), &mut out);
    let mut values = Values::of(known.len());
    for (number, sample) in known {
        values.put(number, sample.value.as_ref(), &mut out);
    }
    out
}

/// The quality, with what else hardly ever changes from one sample to the next.
fn tags(sample: &Sample) -> u64 {
    let kind = match sample.kind {
        SampleKind::Current => 0,
        SampleKind::Event => 1,
        SampleKind::Past => 2,
    };
    sample.quality.to_bits() | kind << KIND | u64::from(sample.time_quality.number()) << TIME_QUALITY
}

/// Reads a block: the samples with the indices and in the types that their points have now.
pub(super) fn decode(
    block: &[u8],
    points: &PointTable,
    numbers: &PointNumbers,
) -> Result<Vec<Result<Sample, Unknown>>, BlockError> {
    let (version, mut rest) = block.split_first().ok_or(BlockError::Damaged)?;
    match *version {
        NAMED => return named::decode(rest, points),
        NUMBERED => {}
        other => return Err(BlockError::Version(other)),
    }
    let rest = &mut rest;
    // Runs take next to nothing, but every sample has a value.
    let count =
        usize::try_from(take(rest)?).ok().filter(|count| *count <= rest.len() / LEAST).ok_or(BlockError::Damaged)?;
    let (steps, times) = (take_rare(rest, count)?, take_rare(rest, count)?);
    let (ages, qualities) = (take_rare(rest, count)?, take_runs(rest, count)?);
    let (mut values, mut samples) = (Values::of(count), Vec::with_capacity(count));
    let (mut number, mut at) = (0_u64, 0_i64);
    for ((step, time), (age, quality)) in steps.into_iter().zip(times).zip(ages.into_iter().zip(qualities)) {
        number = number.wrapping_add(step.cast_unsigned()).wrapping_add(1);
        at = at.wrapping_add(time);
        let time_quality = u8::try_from(quality >> TIME_QUALITY).map(TimeQuality::of_number).unwrap_or_default();
        let kind = match quality >> KIND & 3 {
            0 => SampleKind::Current,
            1 => SampleKind::Event,
            _ => SampleKind::Past,
        };
        let value = values.take(number, rest)?;
        let known = Known(numbers.find(number, points));
        samples.push(sample(
            known,
            value,
            (Quality::from_bits(quality), kind, time_quality),
            (at.wrapping_sub(age), at),
        ));
    }
    if rest.is_empty() { Ok(samples) } else { Err(BlockError::Damaged) }
}

/// A sample of a point as it is now; a value that is not of its type goes out as one where that loses nothing.
fn sample(
    Known(known): Known,
    value: Option<Value>,
    (quality, kind, time_quality): (Quality, SampleKind, TimeQuality),
    (source, at): (i64, i64),
) -> Result<Sample, Unknown> {
    let (source_time, gateway_time) = (Timestamp::from_millis(source), Timestamp::from_millis(at));
    let unknown = Unknown { came: gateway_time };
    let (point, data_type) = known.ok_or(unknown)?;
    let value = value.map(|value| value.into_type(data_type).ok_or(unknown)).transpose()?;
    Ok(Sample { point, value, quality, source_time, gateway_time, time_quality, kind })
}

/// Reads any bytes as a block of a gateway with a point of each kind.
///
/// # Panics
/// When what was read is not read again from what is written of it.
#[cfg(fuzzing)]
#[expect(clippy::expect_used, reason = "finds what should not be")]
pub fn read_any(block: &[u8]) {
    use interlex_core::description::{Files, read};
    use interlex_store::JournalPoint;
    static GATEWAY: std::sync::LazyLock<(PointTable, PointNumbers)> = std::sync::LazyLock::new(|| {
        let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n\
                    [[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let list = "name,address,type,rate\na,holding:0,int64,r\nb,holding:10,uint64,r\nc,holding:20,float64,r\nd,holding:30,float32,r\n\
                    e,coil:0,,r\nf,holding:40,string(20),r\n";
        let files = Files::from([("gateway.toml".to_owned(), main.to_owned()), ("p.csv".to_owned(), list.to_owned())]);
        let points = PointTable::new(&read(&files).expect("a description"), &PointTable::default());
        let mut numbers = PointNumbers::default();
        for (number, info) in (1..).zip(points.all()) {
            let (device, point) = (info.device().to_string(), info.name().to_owned());
            let data_type = info.value_type().expect("a type").to_string();
            numbers.add(JournalPoint { number, device, point, data_type });
        }
        (points, numbers)
    });
    let (points, numbers) = &*GATEWAY;
    let Ok(samples) = decode(block, points, numbers) else { return };
    let known: Vec<_> = samples.into_iter().flatten().collect();
    let written = encode(&known, points, numbers);
    let again: Vec<_> = decode(&written, points, numbers).expect("a block of our own").into_iter().flatten().collect();
    // Bytes tell NaNs apart, too.
    assert_eq!(encode(&again, points, numbers), written);
}

#[cfg(test)]
mod tests;
