use super::EventClass;
use crate::measurement::MeasuredValue;
use std::collections::BTreeMap;

use crate::object::{
    DoubleBit, Flags, Layout, Number, NumberForm, Object, ObjectTime, Packed, PointKind, TimeForm, Variation, layout,
};

/// All of them, by what they are and their indices.
pub(super) type Points = BTreeMap<(PointKind, u32), Point>;

/// A point of an outstation.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// Its value.
    pub value: MeasuredValue,
    /// How good it is.
    pub flags: Flags,
    /// When it became so, in milliseconds since 1970 UTC; 0 where nobody knows.
    pub time: u64,
    /// Where its changes are told; nowhere where there is none.
    pub class: Option<EventClass>,
    /// By how much a number has to move to be told.
    pub deadband: f64,
    /// The value that was told last.
    pub(super) told: Option<f64>,
}

/// What a point is now.
#[derive(Debug, Clone, PartialEq)]
pub struct PointUpdate {
    /// Its value.
    pub value: MeasuredValue,
    /// How good it is.
    pub flags: Flags,
    /// When it became so, in milliseconds since 1970 UTC.
    pub time: u64,
}

impl Point {
    /// One that is online, and whose changes are told in a class.
    #[must_use]
    pub fn new(value: MeasuredValue, class: Option<EventClass>) -> Self {
        let told = match &value {
            MeasuredValue::Number(number) => Some(number.as_f64()),
            _ => None,
        };
        Self { value, flags: Flags::ONLINE, time: 0, class, deadband: 0.0, told }
    }

    /// Takes something new in; tells whether that is an event.
    pub(super) fn update(&mut self, update: PointUpdate) -> bool {
        let PointUpdate { value, flags, time } = update;
        let has_moved = match (&value, self.told) {
            (MeasuredValue::Number(number), Some(told)) => (number.as_f64() - told).abs() > self.deadband,
            _ => value != self.value,
        };
        let is_event = self.class.is_some() && (has_moved || flags != self.flags);
        if is_event && let MeasuredValue::Number(number) = &value {
            self.told = Some(number.as_f64());
        }
        (self.value, self.flags, self.time) = (value, flags, time);
        is_event
    }
}

/// The variation in which a value of a kind is told, where nobody asked for another one.
pub(super) fn usual(kind: PointKind, value: &MeasuredValue, is_event: bool) -> Variation {
    let number = match value {
        MeasuredValue::Number(number) => Some(number.form()),
        _ => None,
    };
    let (group, variation) = match (kind, is_event) {
        (PointKind::Binary, false) => (1, 2),
        (PointKind::Binary, true) => (2, 2),
        (PointKind::DoubleBit, false) => (3, 2),
        (PointKind::DoubleBit, true) => (4, 2),
        (PointKind::BinaryOutput, false) => (10, 2),
        (PointKind::BinaryOutput, true) => (11, 2),
        (PointKind::Counter, false) => (20, if number == Some(NumberForm::Uint16) { 2 } else { 1 }),
        (PointKind::Counter, true) => (22, if number == Some(NumberForm::Uint16) { 6 } else { 5 }),
        (PointKind::FrozenCounter, false) => (21, if number == Some(NumberForm::Uint16) { 2 } else { 1 }),
        (PointKind::FrozenCounter, true) => (23, if number == Some(NumberForm::Uint16) { 6 } else { 5 }),
        (PointKind::Analog | PointKind::FrozenAnalog, false) => (30, of_form(number, [1, 2, 5, 6])),
        (PointKind::Analog | PointKind::FrozenAnalog, true) => (32, of_form(number, [3, 4, 7, 8])),
        (PointKind::AnalogOutput, false) => (40, of_form(number, [1, 2, 3, 4])),
        (PointKind::AnalogOutput, true) => (42, of_form(number, [3, 4, 7, 8])),
        (PointKind::Octets, _) => {
            let length = match value {
                MeasuredValue::Octets(octets) => u8::try_from(octets.len()).unwrap_or(u8::MAX).max(1),
                _ => 1,
            };
            (if is_event { 111 } else { 110 }, length)
        }
    };
    Variation::new(group, variation)
}

const fn of_form(form: Option<NumberForm>, [int32, int16, float32, float64]: [u8; 4]) -> u8 {
    match form {
        Some(NumberForm::Int16 | NumberForm::Uint16) => int16,
        Some(NumberForm::Float32) => float32,
        Some(NumberForm::Float64) => float64,
        _ => int32,
    }
}

/// A point as an object of a variation; none where it has no such form. A variation without flags is for points that are as they
/// should be.
pub(super) fn object(value: &MeasuredValue, flags: Flags, time: u64, variation: Variation) -> Option<Object> {
    let timed = |form| match form {
        TimeForm::None => Some(ObjectTime::None),
        TimeForm::Absolute => Some(ObjectTime::Absolute(time)),
        // Whoever puts the moment before it reckons it out.
        TimeForm::Relative => Some(ObjectTime::Relative(0)),
    };
    Some(match (value, layout(variation)?) {
        (MeasuredValue::State(state), Layout::Bits(Packed::Point(_))) if flags == Flags::ONLINE => {
            Object::State { state: *state, flags: None, time: ObjectTime::None }
        }
        (MeasuredValue::State(state), Layout::State { time, .. }) => {
            Object::State { state: *state, flags: Some(flags), time: timed(time)? }
        }
        (MeasuredValue::DoubleBit(state), Layout::DoubleBits) if flags == Flags::ONLINE => {
            Object::DoubleBit { state: *state, flags: None, time: ObjectTime::None }
        }
        (MeasuredValue::DoubleBit(state), Layout::State { time, .. }) => {
            Object::DoubleBit { state: *state, flags: Some(flags), time: timed(time)? }
        }
        (MeasuredValue::Number(told), Layout::Measured { has_flags, number: form, time, .. }) => {
            let (number, is_beyond) = as_form(*told, form);
            let flags = if is_beyond { flags.with(Flags::OVER_RANGE) } else { flags };
            if !has_flags && flags != Flags::ONLINE {
                return None;
            }
            Object::Measured { number, flags: has_flags.then_some(flags), time: timed(time)? }
        }
        (MeasuredValue::Octets(octets), Layout::Octets(length)) if octets.len() == usize::from(length) => {
            Object::Octets(octets.clone())
        }
        _ => return None,
    })
}

/// A number in another form, and whether it is beyond that.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "what is beyond the ends is held at them, and said to be"
)]
fn as_form(number: Number, form: NumberForm) -> (Number, bool) {
    if number.form() == form {
        return (number, false);
    }
    let told = number.as_f64();
    let within = |low: f64, high: f64| !(low..=high).contains(&told);
    match form {
        NumberForm::Uint16 => (Number::Uint16(told as u16), within(0.0, u16::MAX.into())),
        NumberForm::Uint32 => (Number::Uint32(told as u32), within(0.0, u32::MAX.into())),
        NumberForm::Int16 => (Number::Int16(told as i16), within(i16::MIN.into(), i16::MAX.into())),
        NumberForm::Int32 => (Number::Int32(told as i32), within(i32::MIN.into(), i32::MAX.into())),
        NumberForm::Float32 => (Number::Float32(told as f32), !(told as f32).is_finite() && told.is_finite()),
        NumberForm::Float64 => (Number::Float64(told), false),
    }
}

/// The kind of points of a group, and whether it is one of events.
pub(super) const fn kind_of_group(group: u8) -> Option<(PointKind, bool)> {
    Some(match group {
        1 => (PointKind::Binary, false),
        2 => (PointKind::Binary, true),
        3 => (PointKind::DoubleBit, false),
        4 => (PointKind::DoubleBit, true),
        10 => (PointKind::BinaryOutput, false),
        11 => (PointKind::BinaryOutput, true),
        20 => (PointKind::Counter, false),
        22 => (PointKind::Counter, true),
        21 => (PointKind::FrozenCounter, false),
        23 => (PointKind::FrozenCounter, true),
        30 => (PointKind::Analog, false),
        32 => (PointKind::Analog, true),
        31 => (PointKind::FrozenAnalog, false),
        33 => (PointKind::FrozenAnalog, true),
        40 => (PointKind::AnalogOutput, false),
        42 => (PointKind::AnalogOutput, true),
        110 => (PointKind::Octets, false),
        111 => (PointKind::Octets, true),
        _ => return None,
    })
}

impl From<bool> for MeasuredValue {
    fn from(state: bool) -> Self {
        Self::State(state)
    }
}

impl From<DoubleBit> for MeasuredValue {
    fn from(state: DoubleBit) -> Self {
        Self::DoubleBit(state)
    }
}

impl From<Number> for MeasuredValue {
    fn from(number: Number) -> Self {
        Self::Number(number)
    }
}
