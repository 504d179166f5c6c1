//! Numbers and texts as bytes. Whole numbers are written in seven bits a byte, the lowest first.

use super::BlockError;

pub(super) fn put(mut number: u64, out: &mut Vec<u8>) {
    loop {
        let [low, ..] = number.to_le_bytes();
        number >>= 7;
        if number == 0 {
            return out.push(low & 0x7F);
        }
        out.push(low | 0x80);
    }
}

pub(super) fn put_signed(number: i64, out: &mut Vec<u8>) {
    put((number << 1 ^ number >> 63).cast_unsigned(), out);
}

pub(super) fn put_text(text: &str, out: &mut Vec<u8>) {
    put(text.len() as u64, out);
    out.extend_from_slice(text.as_bytes());
}

pub(super) fn take_byte(rest: &mut &[u8]) -> Result<u8, BlockError> {
    let (byte, after) = rest.split_first().ok_or(BlockError::Damaged)?;
    *rest = after;
    Ok(*byte)
}

pub(super) fn take(rest: &mut &[u8]) -> Result<u64, BlockError> {
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
pub(super) fn take_count(rest: &mut &[u8]) -> Result<u64, BlockError> {
    let count = take(rest)?;
    if count <= rest.len() as u64 { Ok(count) } else { Err(BlockError::Damaged) }
}

pub(super) fn take_signed(rest: &mut &[u8]) -> Result<i64, BlockError> {
    let bits = take(rest)?;
    Ok((bits >> 1).cast_signed() ^ -(bits & 1).cast_signed())
}

pub(super) fn take_bytes<'a>(rest: &mut &'a [u8], count: u64) -> Result<&'a [u8], BlockError> {
    let count = usize::try_from(count).map_err(|_| BlockError::Damaged)?;
    let (taken, after) = rest.split_at_checked(count).ok_or(BlockError::Damaged)?;
    *rest = after;
    Ok(taken)
}

pub(super) fn take_text<'a>(rest: &mut &'a [u8]) -> Result<&'a str, BlockError> {
    let count = take(rest)?;
    std::str::from_utf8(take_bytes(rest, count)?).map_err(|_| BlockError::Damaged)
}
