//! Blocks of before, which named their points.

use super::BlockError;
use super::bytes::{take, take_byte, take_bytes, take_count, take_signed, take_text};
use super::{Known, Unknown, sample};
use interlex_core::{PointTable, Quality, Sample, SampleKind, TimeQuality, Value};

/// Reads a block after its version.
///
/// ```text
/// names: count, then device and point each · samples: count, then each
/// sample: name · time since the one before · source time before it · quality · kind of value · value
/// ```
pub(super) fn decode(mut rest: &[u8], points: &PointTable) -> Result<Vec<Result<Sample, Unknown>>, BlockError> {
    let rest = &mut rest;
    let mut names = Vec::new();
    for _ in 0..take_count(rest)? {
        let (device, point) = (take_text(rest)?, take_text(rest)?);
        names.push(Known::find(points, device, point));
    }
    let (mut samples, mut before) = (Vec::new(), 0_i64);
    for _ in 0..take_count(rest)? {
        let number = usize::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?;
        let known = *names.get(number).ok_or(BlockError::Damaged)?;
        let at = before.wrapping_add(take_signed(rest)?);
        let source = at.wrapping_sub(take_signed(rest)?);
        let quality = u32::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?;
        let value = take_value(rest)?;
        before = at;
        samples.push(sample(
            known,
            value,
            (Quality::from_short_bits(quality), SampleKind::Current, TimeQuality::Unsaid),
            (source, at),
        ));
    }
    if rest.is_empty() { Ok(samples) } else { Err(BlockError::Damaged) }
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
