//! Between the values of objects and the values of points.

use super::many::Unread;
use interlex_bacnet::{Content, Failure, Value as Told};
use interlex_core::description::BacnetAddress;
use interlex_core::{DataType, Quality, Reason, Value};

/// Status flags, in-alarm in the lowest bit, as reasons have them.
pub(super) const IN_ALARM: u8 = 1;
pub(super) const FAULT: u8 = 2;
pub(super) const OVERRIDDEN: u8 = 4;
pub(super) const OUT_OF_SERVICE: u8 = 8;

/// The flags of a bit string.
pub(super) fn flags(told: &Content) -> Option<u8> {
    let Some(Told::BitString(bits)) = told.one() else { return None };
    let flag = |(at, flag)| if bits.has(at) { flag } else { 0 };
    Some([IN_ALARM, FAULT, OVERRIDDEN, OUT_OF_SERVICE].into_iter().enumerate().map(flag).sum())
}

/// What flags say: a fault is bad, what was set by hand is doubtful, and an alarm is about the process and not about the value.
pub(super) const fn quality(flags: u8, reliability: u16) -> Quality {
    let reason = Reason::Bacnet { flags, reliability };
    if flags & FAULT != 0 {
        Quality::Bad(reason)
    } else if flags & (OVERRIDDEN | OUT_OF_SERVICE) != 0 {
        Quality::Uncertain(reason)
    } else if flags & IN_ALARM != 0 {
        Quality::Noted(reason)
    } else {
        Quality::Good
    }
}

/// Words for the states of a multi-state object, from 1, as lists have them.
pub(super) fn state_words(texts: &Content) -> Option<String> {
    // A word of a list of words has none of the marks between them.
    let plain = |text: &str| text.replace([';', '='], " ").trim().to_owned();
    let texts = texts.values().ok()?;
    let word = |(number, text): (u32, &Told)| Some(format!("{number}={}", plain(text.as_str()?)));
    let words: Vec<_> = (1..).zip(&texts).filter_map(word).collect();
    (!words.is_empty()).then(|| words.join(";"))
}

/// Limits that are some: those of all that there is are none.
pub(super) fn limits(low: Option<f64>, high: Option<f64>) -> Option<(f64, f64)> {
    low.zip(high).filter(|(low, high)| low < high && *low > -1e30 && *high < 1e30)
}

/// Why a property is not known, as a reason.
pub(super) fn unread(why: &Unread) -> Reason {
    match why {
        Unread::Error(error) => Reason::BacnetError { class: narrowed(error.class), code: narrowed(error.code) },
        Unread::Failure(Failure::Timeout) => Reason::Timeout,
        Unread::Failure(_) | Unread::Unfitting => Reason::ProtocolError,
    }
}

fn narrowed(number: u32) -> u16 {
    u16::try_from(number).unwrap_or(u16::MAX)
}

/// The type of values of a device that no list says.
pub(super) fn found_type(told: &Content) -> Option<DataType> {
    Some(match told.one()? {
        Told::Null => return None,
        Told::Boolean(_) => DataType::Bool,
        Told::Unsigned(number) if u32::try_from(number).is_err() => DataType::Uint64,
        Told::Unsigned(_) | Told::Enumerated(_) => DataType::Uint32,
        Told::Signed(number) if i32::try_from(number).is_err() => DataType::Int64,
        Told::Signed(_) => DataType::Int32,
        Told::Real(_) => DataType::Float32,
        Told::Double(_) => DataType::Float64,
        Told::OctetString(_) => DataType::Bytes,
        _ => DataType::String(250),
    })
}

/// A value in the type that its point has; none where it does not fit that.
pub(super) fn value(told: &Content, address: BacnetAddress, data_type: DataType) -> Option<Value> {
    let Some(one) = told.one() else {
        // Several, or what only its property knows how to read: as a text for people.
        return Value::Text(told.to_string().into()).into_type(data_type);
    };
    let raw = match one {
        Told::Null => return None,
        Told::Boolean(value) => Value::Bool(value),
        Told::Enumerated(state) if address.is_binary() || data_type == DataType::Bool => match state {
            0 => Value::Bool(false),
            1 => Value::Bool(true),
            _ => return None,
        },
        Told::Unsigned(number) => Value::Uint(number),
        Told::Enumerated(number) => Value::Uint(number.into()),
        Told::Signed(number) => Value::Int(number),
        Told::Real(number) => Value::Float32(number),
        Told::Double(number) => Value::Float64(number),
        Told::CharacterString(text) => Value::Text(text.into()),
        other => Value::Text(other.to_string().into()),
    };
    // A whole number is described where the device has single precision, and the other way round.
    let widened = match (&raw, data_type) {
        (Value::Uint(_) | Value::Int(_), DataType::Float32) => raw.as_f64().map(narrow),
        (Value::Float32(_) | Value::Float64(_), kind) if !kind.is_float() && kind.is_numeric() => {
            raw.as_f64().and_then(integral).map(Value::Int)
        }
        (Value::Bool(state), kind) if kind.is_numeric() && kind != DataType::Bool => Some(Value::Uint((*state).into())),
        _ => None,
    };
    widened.unwrap_or(raw).into_type(data_type)
}

#[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
fn narrow(number: f64) -> Value {
    Value::Float32(number as f32)
}

/// A number without a fraction as a whole one.
#[expect(clippy::cast_possible_truncation, reason = "within what both have exactly")]
fn integral(number: f64) -> Option<i64> {
    let is_whole = number.fract() == 0.0 && number.abs() < 9e15;
    is_whole.then_some(number as i64)
}

/// A raw value as the device takes it, in the form of what it holds now.
#[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
pub(super) fn told(raw: &Value, like: &Told) -> Option<Told> {
    if let (Told::CharacterString(_), Value::Text(text)) = (like, raw) {
        return Some(Told::CharacterString(text.to_string()));
    }
    let whole = || match raw {
        Value::Uint(number) => Some(i128::from(*number)),
        Value::Int(number) => Some(i128::from(*number)),
        Value::Bool(state) => Some(i128::from(*state)),
        Value::Float32(number) => integral((*number).into()).map(i128::from),
        Value::Float64(number) => integral(*number).map(i128::from),
        Value::Text(_) => None,
    };
    let number = || match raw {
        Value::Bool(_) | Value::Text(_) => None,
        other => other.as_f64(),
    };
    Some(match like {
        Told::Boolean(_) => Told::Boolean(match whole()? {
            0 => false,
            1 => true,
            _ => return None,
        }),
        Told::Enumerated(_) => Told::Enumerated(u32::try_from(whole()?).ok()?),
        Told::Unsigned(_) => Told::Unsigned(u64::try_from(whole()?).ok()?),
        Told::Signed(_) => Told::Signed(i64::try_from(whole()?).ok()?),
        Told::Real(_) => Told::Real(Some(number()? as f32).filter(|number| number.is_finite())?),
        Told::Double(_) => Told::Double(number()?),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_bacnet::BitString;

    #[test]
    fn flags_are_qualities_with_their_names() {
        let of = |bits: [bool; 4], reliability: u16| {
            let flags = flags(&Content::of(&[BitString::of(&bits).into()])).unwrap();
            let quality = quality(flags, reliability);
            format!("{} {}", quality.class(), quality.reason().map(super::super::words).unwrap_or_default())
        };
        assert_eq!(of([false; 4], 0), "good ");
        assert_eq!(of([true, false, false, false], 0), "good in alarm");
        assert_eq!(of([false, true, false, false], 4), "bad fault, open-loop");
        assert_eq!(of([true, false, true, false], 0), "uncertain in alarm, overridden");
        assert_eq!(of([false, false, false, true], 0), "uncertain out of service");
        assert_eq!(
            super::super::words(unread(&Unread::Error(interlex_bacnet::Error::UNKNOWN_OBJECT))),
            "unknown-object (object)"
        );
    }

    #[test]
    fn values_come_in_the_type_of_their_point_or_not_at_all() {
        let read = |told: Told, address: &str, data_type| {
            value(&Content::of(&[told]), address.parse().unwrap(), data_type).map(|value| value.to_string())
        };
        let some = |text: &str| Some(text.to_owned());
        assert_eq!(read(Told::Real(21.5), "analog-input:1", DataType::Float32), some("21.5"));
        assert_eq!(read(Told::Real(21.5), "analog-input:1", DataType::Int16), None, "it has a fraction");
        assert_eq!(read(Told::Real(21.0), "analog-input:1", DataType::Int16), some("21"));
        assert_eq!(read(Told::Enumerated(1), "binary-input:1", DataType::Bool), some("true"));
        assert_eq!(read(Told::Enumerated(2), "binary-input:1", DataType::Bool), None);
        assert_eq!(read(Told::Unsigned(3), "multi-state-value:1", DataType::Uint32), some("3"));
        assert_eq!(read(Told::Null, "analog-output:1.priority-array[8]", DataType::Float32), None);
        assert_eq!(read("auto".into(), "multi-state-value:1.state-text[2]", DataType::String(250)), some("auto"));
    }

    #[test]
    fn commands_have_the_form_of_what_is_there() {
        assert_eq!(told(&Value::Float64(42.5), &Told::Real(0.0)), Some(Told::Real(42.5)));
        assert_eq!(told(&Value::Bool(true), &Told::Enumerated(0)), Some(Told::Enumerated(1)));
        assert_eq!(told(&Value::Uint(3), &Told::Unsigned(1)), Some(Told::Unsigned(3)));
        assert_eq!(told(&Value::Int(-3), &Told::Unsigned(1)), None);
        assert_eq!(told(&Value::Float64(1.5), &Told::Unsigned(1)), None);
        assert_eq!(told(&Value::Float64(1e300), &Told::Real(0.0)), None);
    }
}
