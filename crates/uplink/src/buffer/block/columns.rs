//! Columns of numbers and of values, in few bytes.

use super::BlockError;
use super::bytes::{put, put_signed, put_text, take, take_byte, take_bytes, take_signed, take_text};
use foldhash::{HashMap, HashMapExt as _};
use interlex_core::Value;

/// Writes numbers that are zero as a rule: each as it is, and after a zero how many more of them follow.
pub(super) fn put_rare(numbers: impl Iterator<Item = i64>, out: &mut Vec<u8>) {
    let mut numbers = numbers.peekable();
    while let Some(number) = numbers.next() {
        put_signed(number, out);
        if number == 0 {
            let mut more = 0;
            while numbers.next_if_eq(&0).is_some() {
                more += 1;
            }
            put(more, out);
        }
    }
}

/// Reads so many of them.
pub(super) fn take_rare(rest: &mut &[u8], count: usize) -> Result<Vec<i64>, BlockError> {
    let mut numbers = Vec::with_capacity(count);
    while numbers.len() < count {
        let number = take_signed(rest)?;
        numbers.push(number);
        if number == 0 {
            let more = usize::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?;
            if more > count - numbers.len() {
                return Err(BlockError::Damaged);
            }
            numbers.resize(numbers.len() + more, 0);
        }
    }
    Ok(numbers)
}

/// Writes numbers that stay the same for a while: each with how often it stands there.
pub(super) fn put_runs(numbers: impl Iterator<Item = u64>, out: &mut Vec<u8>) {
    let mut numbers = numbers.peekable();
    while let Some(number) = numbers.next() {
        let mut count = 1;
        while numbers.next_if_eq(&number).is_some() {
            count += 1;
        }
        put(number, out);
        put(count, out);
    }
}

/// Reads so many of them.
pub(super) fn take_runs(rest: &mut &[u8], count: usize) -> Result<Vec<u64>, BlockError> {
    let mut numbers = Vec::with_capacity(count);
    while numbers.len() < count {
        let (number, run) = (take(rest)?, usize::try_from(take(rest)?).map_err(|_| BlockError::Damaged)?);
        if run == 0 || run > count - numbers.len() {
            return Err(BlockError::Damaged);
        }
        numbers.resize(numbers.len() + run, number);
    }
    Ok(numbers)
}

const NONE: u8 = 0;
const FALSE: u8 = 1;
const TRUE: u8 = 2;
const INT: u8 = 3;
const UINT: u8 = 4;
const FLOAT32: u8 = 5;
const FLOAT64: u8 = 6;
const TEXT: u8 = 7;
/// A double that is a whole number over a power of ten: this, and how many decimals it has.
const DECIMAL: u8 = 16;
/// The whole number that follows is what is added to the one before it of the same point.
const MORE: u8 = 0x80;
/// The powers of ten that values are tried with.
const POWERS: [f64; 7] = [1.0, 10.0, 100.0, 1e3, 1e4, 1e5, 1e6];
/// Whole numbers up to here are doubles without a loss.
const WHOLE: f64 = 9e15;

/// What was written last of each point, where it was a whole number: its kind, and the number.
#[derive(Debug, Default)]
pub(super) struct Values {
    last: HashMap<u64, (u8, i64)>,
}

impl Values {
    /// None of so many values yet.
    pub(super) fn of(count: usize) -> Self {
        Self { last: HashMap::with_capacity(count) }
    }

    /// Writes a value of a point.
    pub(super) fn put(&mut self, point: u64, value: Option<&Value>, out: &mut Vec<u8>) {
        match value {
            None => out.push(NONE),
            Some(Value::Bool(false)) => out.push(FALSE),
            Some(Value::Bool(true)) => out.push(TRUE),
            Some(Value::Int(number)) => self.put_whole(point, INT, *number, out),
            Some(Value::Uint(number)) => match i64::try_from(*number) {
                Ok(number) => self.put_whole(point, UINT, number, out),
                Err(_) => {
                    out.push(UINT);
                    put_signed(number.cast_signed(), out);
                }
            },
            Some(Value::Float32(float)) => {
                out.push(FLOAT32);
                out.extend_from_slice(&float.to_le_bytes());
            }
            Some(Value::Float64(float)) => match decimal(*float) {
                Some((decimals, number)) => self.put_whole(point, DECIMAL + decimals, number, out),
                None => {
                    out.push(FLOAT64);
                    out.extend_from_slice(&float.to_le_bytes());
                }
            },
            Some(Value::Text(text)) => {
                out.push(TEXT);
                put_text(text, out);
            }
        }
    }

    fn put_whole(&mut self, point: u64, kind: u8, number: i64, out: &mut Vec<u8>) {
        match self.last.insert(point, (kind, number)) {
            Some((before, last)) if before == kind => {
                out.push(kind | MORE);
                put_signed(number.wrapping_sub(last), out);
            }
            _ => {
                out.push(kind);
                put_signed(number, out);
            }
        }
    }

    /// Reads a value of a point.
    pub(super) fn take(&mut self, point: u64, rest: &mut &[u8]) -> Result<Option<Value>, BlockError> {
        let tag = take_byte(rest)?;
        let kind = tag & !MORE;
        let is_whole = kind == INT || kind == UINT || (DECIMAL..DECIMAL + 7).contains(&kind);
        if !is_whole {
            return take_other(tag, rest);
        }
        let told = take_signed(rest)?;
        let number = if tag & MORE == 0 {
            told
        } else {
            let (before, last) = self.last.get(&point).copied().ok_or(BlockError::Damaged)?;
            if before != kind {
                return Err(BlockError::Damaged);
            }
            last.wrapping_add(told)
        };
        // What is beyond a signed number was written alone.
        if kind != UINT || number >= 0 {
            self.last.insert(point, (kind, number));
        }
        Ok(Some(match kind {
            INT => Value::Int(number),
            UINT => Value::Uint(number.cast_unsigned()),
            decimals => Value::Float64(of_decimal(decimals - DECIMAL, number)),
        }))
    }
}

fn take_other(tag: u8, rest: &mut &[u8]) -> Result<Option<Value>, BlockError> {
    Ok(Some(match tag {
        NONE => return Ok(None),
        FALSE => Value::Bool(false),
        TRUE => Value::Bool(true),
        FLOAT32 => Value::Float32(f32::from_le_bytes(four(take_bytes(rest, 4)?)?)),
        FLOAT64 => Value::Float64(f64::from_le_bytes(four(take_bytes(rest, 8)?)?)),
        TEXT => Value::Text(take_text(rest)?.into()),
        _ => return Err(BlockError::Damaged),
    }))
}

fn four<const N: usize>(bytes: &[u8]) -> Result<[u8; N], BlockError> {
    bytes.try_into().map_err(|_| BlockError::Damaged)
}

#[expect(clippy::cast_precision_loss, reason = "whole numbers within 2^53")]
fn of_decimal(decimals: u8, number: i64) -> f64 {
    number as f64 / POWERS.get(usize::from(decimals)).copied().unwrap_or(1.0)
}

/// A double as a whole number with few decimals, where it is exactly that.
#[expect(clippy::cast_possible_truncation, reason = "checked to be whole and within 2^53")]
fn decimal(float: f64) -> Option<(u8, i64)> {
    if float == 0.0 {
        // Zero has a sign.
        return float.is_sign_positive().then_some((0, 0));
    }
    let exact = |(decimals, power): (u8, &f64)| {
        let number = (float * power).round();
        let is_exact = number.abs() < WHOLE && (number / power).to_bits() == float.to_bits();
        is_exact.then_some((decimals, number as i64))
    };
    (0..).zip(&POWERS).find_map(exact)
}
