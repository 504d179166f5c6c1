//! Samples as the journal keeps them: compact, and named, since indices change with every revision.

use interlex_core::{DataType, PointIndex, PointTable, Quality, Reason, Sample, Timestamp, Value};
use std::collections::HashMap;

/// The first byte of every block.
const VERSION: u8 = 1;

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

/// What a block holds of one sample whose point is described no more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Unknown {
    /// When it came.
    pub(super) came: Timestamp,
}

/// Writes samples into a block; those of points that are described no more are left out.
///
/// ```text
/// version · names: count, then device and point each · samples: count, then each
/// sample: name · time since the one before · source time before it · quality · kind of value · value
/// ```
///
/// Whole numbers are written in seven bits a byte, the lowest first.
pub(super) fn encode<'a>(samples: impl Iterator<Item = &'a Sample>, points: &PointTable) -> Vec<u8> {
    let (mut names, mut numbers) = (Vec::new(), HashMap::new());
    let (mut body, mut count, mut before) = (Vec::new(), 0_u64, 0_i64);
    for sample in samples {
        let Some(info) = points.get(sample.point) else { continue };
        let number = *numbers.entry(sample.point).or_insert_with(|| {
            names.push(info);
            names.len() - 1
        });
        put(number as u64, &mut body);
        let at = sample.gateway_time.as_millis();
        put_signed(at.wrapping_sub(before), &mut body);
        put_signed(at.wrapping_sub(sample.source_time.as_millis()), &mut body);
        put(sample.quality.to_bits().into(), &mut body);
        put_value(sample.value.as_ref(), &mut body);
        (before, count) = (at, count + 1);
    }
    let mut out = vec![VERSION];
    put(names.len() as u64, &mut out);
    for info in names {
        put_text(&info.device, &mut out);
        put_text(info.name(), &mut out);
    }
    put(count, &mut out);
    out.extend(body);
    out
}

/// Reads a block: the samples with the indices and in the types that their points have now.
pub(super) fn decode(block: &[u8], points: &PointTable) -> Result<Vec<Result<Sample, Unknown>>, BlockError> {
    let (version, mut rest) = block.split_first().ok_or(BlockError::Damaged)?;
    if *version != VERSION {
        return Err(BlockError::Version(*version));
    }
    let rest = &mut rest;
    let mut names = Vec::new();
    for _ in 0..take_count(rest)? {
        let (device, point) = (take_text(rest)?, take_text(rest)?);
        names.push(points.find(device, point).map(|info| (info.index, info.value_type)));
    }
    let (mut samples, mut before) = (Vec::new(), 0_i64);
    for _ in 0..take_count(rest)? {
        let number = usize::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?;
        let known: Option<(PointIndex, DataType)> = *names.get(number).ok_or(BlockError::Damaged)?;
        let at = before.wrapping_add(take_signed(rest)?);
        let source = at.wrapping_sub(take_signed(rest)?);
        let quality = u32::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?;
        let value = take_value(rest)?;
        before = at;
        samples.push(
            known
                .ok_or(Unknown { came: Timestamp::from_millis(at) })
                .map(|(point, data_type)| sample(point, data_type, value, quality, source, at)),
        );
    }
    if rest.is_empty() { Ok(samples) } else { Err(BlockError::Damaged) }
}

fn sample(point: PointIndex, data_type: DataType, value: Option<Value>, quality: u32, source: i64, at: i64) -> Sample {
    let fits = value.as_ref().is_none_or(|value| is_of(value, data_type));
    // A value of a type that its point has no more is told as it can be: that there was one.
    let quality = if fits { Quality::from_bits(quality) } else { Quality::Bad(Reason::Stale) };
    let (source_time, gateway_time) = (Timestamp::from_millis(source), Timestamp::from_millis(at));
    Sample { point, value: value.filter(|_| fits), quality, source_time, gateway_time }
}

const fn is_of(value: &Value, data_type: DataType) -> bool {
    match value {
        Value::Bool(_) => matches!(data_type, DataType::Bool),
        Value::Int(_) => {
            matches!(data_type, DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64)
        }
        Value::Uint(_) => matches!(
            data_type,
            DataType::Uint8
                | DataType::Uint16
                | DataType::Uint32
                | DataType::Uint64
                | DataType::Bcd16
                | DataType::Bcd32
                | DataType::Bcd64
        ),
        Value::Float32(_) => matches!(data_type, DataType::Float16 | DataType::Float32),
        Value::Float64(_) => matches!(data_type, DataType::Float64 | DataType::Auto),
        Value::Text(_) => data_type.is_text(),
    }
}

fn put(mut number: u64, out: &mut Vec<u8>) {
    loop {
        let [low, ..] = number.to_le_bytes();
        number >>= 7;
        if number == 0 {
            return out.push(low & 0x7F);
        }
        out.push(low | 0x80);
    }
}

fn put_signed(number: i64, out: &mut Vec<u8>) {
    put((number << 1 ^ number >> 63).cast_unsigned(), out);
}

fn put_text(text: &str, out: &mut Vec<u8>) {
    put(text.len() as u64, out);
    out.extend_from_slice(text.as_bytes());
}

fn put_value(value: Option<&Value>, out: &mut Vec<u8>) {
    match value {
        None => out.push(0),
        Some(Value::Bool(bit)) => out.push(1 + u8::from(*bit)),
        Some(Value::Int(number)) => {
            out.push(3);
            put_signed(*number, out);
        }
        Some(Value::Uint(number)) => {
            out.push(4);
            put(*number, out);
        }
        Some(Value::Float32(float)) => {
            out.push(5);
            out.extend_from_slice(&float.to_le_bytes());
        }
        Some(Value::Float64(float)) => {
            out.push(6);
            out.extend_from_slice(&float.to_le_bytes());
        }
        Some(Value::Text(text)) => {
            out.push(7);
            put_text(text, out);
        }
    }
}

fn take_byte(rest: &mut &[u8]) -> Result<u8, BlockError> {
    let (byte, after) = rest.split_first().ok_or(BlockError::Damaged)?;
    *rest = after;
    Ok(*byte)
}

fn take(rest: &mut &[u8]) -> Result<u64, BlockError> {
    let mut number = 0;
    for shift in (0..64).step_by(7) {
        let byte = take_byte(rest)?;
        number |= u64::from(byte & 0x7F) << shift;
        if byte & 0x80 == 0 {
            return Ok(number);
        }
    }
    Err(BlockError::Damaged)
}

/// A count of things that take a byte each at least, so that no count makes us reserve what is not there.
fn take_count(rest: &mut &[u8]) -> Result<u64, BlockError> {
    let count = take(rest)?;
    if count <= rest.len() as u64 { Ok(count) } else { Err(BlockError::Damaged) }
}

fn take_signed(rest: &mut &[u8]) -> Result<i64, BlockError> {
    let bits = take(rest)?;
    Ok((bits >> 1).cast_signed() ^ -(bits & 1).cast_signed())
}

fn take_bytes<'a>(rest: &mut &'a [u8], count: u64) -> Result<&'a [u8], BlockError> {
    let count = usize::try_from(count).map_err(|_| BlockError::Damaged)?;
    let (taken, after) = rest.split_at_checked(count).ok_or(BlockError::Damaged)?;
    *rest = after;
    Ok(taken)
}

fn take_text<'a>(rest: &mut &'a [u8]) -> Result<&'a str, BlockError> {
    let count = take(rest)?;
    std::str::from_utf8(take_bytes(rest, count)?).map_err(|_| BlockError::Damaged)
}

fn take_value(rest: &mut &[u8]) -> Result<Option<Value>, BlockError> {
    Ok(Some(match take_byte(rest)? {
        0 => return Ok(None),
        bit @ 1..=2 => Value::Bool(bit == 2),
        3 => Value::Int(take_signed(rest)?),
        4 => Value::Uint(take(rest)?),
        5 => Value::Float32(f32::from_le_bytes(take_bytes(rest, 4)?.try_into().map_err(|_| BlockError::Damaged)?)),
        6 => Value::Float64(f64::from_le_bytes(take_bytes(rest, 8)?.try_into().map_err(|_| BlockError::Damaged)?)),
        7 => Value::Text(take_text(rest)?.into()),
        _ => return Err(BlockError::Damaged),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::description::{Files, read};
    use proptest::prelude::*;

    fn points(rows: &str) -> PointTable {
        let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\n\
                    name = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let list = format!("name,address,type,rate\n{rows}");
        let files: Files = [("gateway.toml".to_owned(), main.to_owned()), ("p.csv".to_owned(), list)].into();
        PointTable::new(&read(&files).unwrap(), &PointTable::default())
    }

    const ROWS: &str = "a,holding:0,int64,r\nb,holding:10,uint64,r\nc,holding:20,float64,r\nd,holding:30,float32,r\ne,coil:0,,r\nf,holding:40,string(20),r\n";

    fn values() -> impl Strategy<Value = (u32, Option<Value>)> {
        prop_oneof![
            any::<i64>().prop_map(|n| (0, Some(Value::Int(n)))),
            any::<u64>().prop_map(|n| (1, Some(Value::Uint(n)))),
            (-1e300_f64..1e300).prop_map(|n| (2, Some(Value::Float64(n)))),
            (-1e30_f32..1e30).prop_map(|n| (3, Some(Value::Float32(n)))),
            any::<bool>().prop_map(|bit| (4, Some(Value::Bool(bit)))),
            "\\PC{0,20}".prop_map(|text| (5, Some(Value::Text(text.into())))),
            (0_u32..6).prop_map(|point| (point, None)),
        ]
    }

    proptest! {
        #[test]
        fn samples_come_out_of_a_block_as_they_went_in(
            all in prop::collection::vec((values(), any::<i32>(), -5000_i64..5000, 0_u8..4), 0..60),
        ) {
            let points = points(ROWS);
            let qualities = [Quality::Good, Quality::Uncertain(Reason::OutOfRange), Quality::Bad(Reason::DeviceException(2)), Quality::Bad(Reason::Timeout)];
            let samples: Vec<_> = all.into_iter().map(|((point, value), at, before, quality)| Sample {
                point: PointIndex(point),
                value,
                quality: qualities[usize::from(quality)],
                source_time: Timestamp::from_millis(1_700_000_000_000 + i64::from(at) - before),
                gateway_time: Timestamp::from_millis(1_700_000_000_000 + i64::from(at)),
            }).collect();
            let block = encode(samples.iter(), &points);
            prop_assert_eq!(decode(&block, &points), Ok(samples.into_iter().map(Ok).collect()));
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let points = points(ROWS);
            let _ = decode(&bytes, &points);
            let mut versioned = vec![VERSION];
            versioned.extend(bytes);
            let _ = decode(&versioned, &points);
        }
    }

    #[test]
    fn a_numeric_sample_takes_few_bytes_and_points_that_are_gone_are_told() {
        let before = points(ROWS);
        let sample = |n: i64| Sample {
            point: PointIndex(2),
            value: Some(Value::Float64(50.0)),
            quality: Quality::Good,
            source_time: Timestamp::from_millis(1_700_000_000_000 + n * 500),
            gateway_time: Timestamp::from_millis(1_700_000_000_000 + n * 500),
        };
        let samples: Vec<_> = (0..1000).map(sample).collect();
        let block = encode(samples.iter(), &before);
        assert!(block.len() < 15 * 1000, "{}", block.len());
        let after = points("a,holding:0,int64,r\nc,holding:20,int16,r\n");
        let read = decode(&block, &after).unwrap();
        assert_eq!(read[0].as_ref().unwrap().quality, Quality::Bad(Reason::Stale), "of another type now");
        let gone = points("a,holding:0,int64,r\n");
        assert_eq!(decode(&block, &gone).unwrap()[0], Err(Unknown { came: Timestamp::from_millis(1_700_000_000_000) }));
        assert_eq!(decode(&[9], &gone), Err(BlockError::Version(9)));
        assert_eq!(decode(&block[..block.len() - 1], &before), Err(BlockError::Damaged));
    }
}
