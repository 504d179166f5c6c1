use crate::{DataType, Enumeration, TwoEndedSpan, Value};

/// From the raw value to the engineering value, and back.
///
/// A scale that is one over a whole number (0.1, 0.01, 1/60) is carried out as a division, so that 4998 at a
/// scale of 0.01 is exactly the double nearest to 49.98 and not its neighbour.
#[derive(Debug, Clone, PartialEq)]
pub struct Shaping(Kind);

#[derive(Debug, Clone, PartialEq)]
enum Kind {
    None,
    Linear { step: Step, offset: f64 },
    Span { span: TwoEndedSpan, clamp: bool, root: bool },
    Invert,
    Words(Enumeration),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Step {
    None,
    Multiply(f64),
    Divide(f64),
}

/// An engineering value that no raw value stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UnshapeError {
    /// It is text where a number is wanted, or the other way round.
    #[error("the value is not of the point's kind")]
    Kind,
    /// None of the words.
    #[error("the value is none of the enumeration's words")]
    Word,
    /// The device's type cannot hold it.
    #[error("the raw value would not fit {0}")]
    Range(DataType),
}

impl Shaping {
    /// Leaves every value as it is.
    pub const NONE: Self = Self(Kind::None);

    /// `raw × scale + offset`.
    #[must_use]
    #[expect(clippy::float_cmp, reason = "only exactly these numbers leave the value as it is")]
    pub fn linear(scale: f64, offset: f64) -> Self {
        let inverse = (1.0 / scale).round();
        let step = if scale == 1.0 {
            Step::None
        } else if inverse.abs() > 1.0 && 1.0 / inverse == scale {
            Step::Divide(inverse)
        } else {
            Step::Multiply(scale)
        };
        if step == Step::None && offset == 0.0 { Self::NONE } else { Self(Kind::Linear { step, offset }) }
    }

    /// Two ends of the raw value laid on two ends of the engineering value. Values beyond the ends go on in the same
    /// line, or are held at the ends by `clamp`. `root` takes the square root of the way between the ends, as flow is
    /// made of a differential pressure; below the lower end it is that end.
    #[must_use]
    pub const fn span(span: TwoEndedSpan, clamp: bool, root: bool) -> Self {
        Self(Kind::Span { span, clamp, root })
    }

    /// Bits the other way round.
    #[must_use]
    pub const fn invert() -> Self {
        Self(Kind::Invert)
    }

    /// A word for each of some whole numbers; other numbers are written as they are.
    #[must_use]
    pub const fn words(words: Enumeration) -> Self {
        Self(Kind::Words(words))
    }

    /// Whether values pass unchanged, and so keep their own type.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.0 == Kind::None
    }

    /// The type of the engineering value of a raw one.
    #[must_use]
    pub const fn output(&self, raw: DataType) -> DataType {
        match (&self.0, raw) {
            (Kind::None | Kind::Invert, raw) | (_, raw @ (DataType::Bool | DataType::String(_))) => raw,
            (Kind::Linear { .. } | Kind::Span { .. }, _) => DataType::Float64,
            (Kind::Words(_), _) => DataType::String(250),
        }
    }

    /// The engineering value of `raw`. Text passes unchanged, and so do bits unless they are inverted.
    #[must_use]
    pub fn apply(&self, raw: &Value) -> Value {
        match (&self.0, raw) {
            (Kind::Invert, Value::Bool(bit)) => Value::Bool(!bit),
            (Kind::None | Kind::Invert, _) | (_, Value::Bool(_) | Value::Text(_)) => raw.clone(),
            (Kind::Words(words), _) => whole(raw)
                .and_then(|number| words.word(number))
                .map_or_else(|| Value::Text(raw.to_string().into()), |word| Value::Text(std::sync::Arc::clone(word))),
            (Kind::Linear { step, offset }, _) => {
                let number = raw.as_f64().unwrap_or(f64::NAN);
                let scaled = match step {
                    Step::None => number,
                    Step::Multiply(factor) => number * factor,
                    Step::Divide(divisor) => number / divisor,
                };
                Value::Float64(scaled + offset)
            }
            (Kind::Span { span, clamp, root }, _) => {
                let number = raw.as_f64().unwrap_or(f64::NAN);
                Value::Float64(along(number, (span.raw_low, span.raw_high), (span.low, span.high), *clamp, |way| {
                    if *root { way.max(0.0).sqrt() } else { way }
                }))
            }
        }
    }

    /// The raw value that stands for an engineering value, in the type of the device. Whole numbers are rounded to the
    /// nearest, halves away from zero.
    ///
    /// # Errors
    /// [`UnshapeError`] when there is none.
    pub fn unapply(&self, value: &Value, raw: DataType) -> Result<Value, UnshapeError> {
        match (&self.0, value) {
            (Kind::Invert, Value::Bool(bit)) => Ok(Value::Bool(!bit)),
            (Kind::Words(words), Value::Text(word)) => {
                let number = words.number(word).or_else(|| word.parse().ok()).ok_or(UnshapeError::Word)?;
                #[expect(clippy::cast_precision_loss, reason = "enumerations have small numbers")]
                fitting(number as f64, raw)
            }
            (_, Value::Bool(_)) if matches!(raw, DataType::Bool | DataType::Auto) => Ok(value.clone()),
            (_, Value::Text(_)) if matches!(raw, DataType::String(_)) => Ok(value.clone()),
            (_, Value::Bool(_) | Value::Text(_)) => Err(UnshapeError::Kind),
            (kind, number) => {
                let number = number.as_f64().unwrap_or(f64::NAN);
                let back = match kind {
                    Kind::Linear { step, offset } => match step {
                        Step::None => number - offset,
                        Step::Multiply(factor) => (number - offset) / factor,
                        Step::Divide(divisor) => (number - offset) * divisor,
                    },
                    Kind::Span { span, clamp, root } => {
                        along(number, (span.low, span.high), (span.raw_low, span.raw_high), *clamp, |way| {
                            if *root { way.max(0.0) * way.max(0.0) } else { way }
                        })
                    }
                    Kind::None | Kind::Invert | Kind::Words(_) => number,
                };
                fitting(back, raw)
            }
        }
    }
}

/// How far a number has come from one end to the other, bent, and laid between two other ends.
fn along(number: f64, from: (f64, f64), to: (f64, f64), clamp: bool, bend: impl Fn(f64) -> f64) -> f64 {
    let way = (number - from.0) / (from.1 - from.0);
    let way = bend(if clamp { way.clamp(0.0, 1.0) } else { way });
    // Both ends are met exactly.
    if way == 1.0 { to.1 } else { way.mul_add(to.1 - to.0, to.0) }
}

fn whole(value: &Value) -> Option<i64> {
    match value {
        Value::Int(number) => Some(*number),
        Value::Uint(number) => i64::try_from(*number).ok(),
        _ => None,
    }
}

/// A number in a type of the device, rounded where that has whole numbers only.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "the range is checked before, and single precision is asked for"
)]
fn fitting(number: f64, data_type: DataType) -> Result<Value, UnshapeError> {
    let error = UnshapeError::Range(data_type);
    let rounded = number.round();
    let signed = |low: i64, high: i64| {
        (low as f64 <= rounded && rounded <= high as f64).then_some(Value::Int(rounded as i64)).ok_or(error)
    };
    let unsigned =
        |high: u64| (0.0 <= rounded && rounded <= high as f64).then_some(Value::Uint(rounded as u64)).ok_or(error);
    match data_type {
        DataType::Int16 => signed(i16::MIN.into(), i16::MAX.into()),
        DataType::Int32 => signed(i32::MIN.into(), i32::MAX.into()),
        DataType::Int64 => signed(i64::MIN, i64::MAX),
        DataType::Uint16 => unsigned(u16::MAX.into()),
        DataType::Uint32 => unsigned(u32::MAX.into()),
        DataType::Uint64 => unsigned(u64::MAX),
        DataType::Float32 if number.abs() <= f64::from(f32::MAX) => Ok(Value::Float32(number as f32)),
        DataType::Float64 | DataType::Auto if number.is_finite() => Ok(Value::Float64(number)),
        DataType::Float32 | DataType::Float64 | DataType::Auto => Err(error),
        DataType::Bool | DataType::String(_) => Err(UnshapeError::Kind),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn span(text: &str, clamp: bool, root: bool) -> Shaping {
        Shaping::span(text.parse().unwrap(), clamp, root)
    }

    fn float(value: Value) -> f64 {
        value.as_f64().unwrap()
    }

    #[test]
    fn no_scale_keeps_the_type() {
        assert_eq!(Shaping::linear(1.0, 0.0).apply(&Value::Uint(7)), Value::Uint(7));
        assert_eq!(Shaping::linear(0.1, 0.0).apply(&Value::Bool(true)), Value::Bool(true));
    }

    #[test]
    fn two_ends_are_laid_on_two_ends_and_held_there_on_demand() {
        // A current loop of 4 to 20 mA, 0 to 27648 at the converter, for -50 to 150 °C.
        let open = span("0..27648 -> -50..150", false, false);
        for (raw, value) in [(0, -50.0), (27_648, 150.0), (13_824, 50.0), (-1382, -59.997_106_481_481_48)] {
            assert!((float(open.apply(&Value::Int(raw))) - value).abs() < 1e-9, "{raw}");
        }
        let held = span("0..27648 -> -50..150", true, false);
        assert_eq!((float(held.apply(&Value::Int(-1382))), float(held.apply(&Value::Int(30_000)))), (-50.0, 150.0));
        let falling = span("0..100 -> 10..0", false, false);
        assert_eq!(float(falling.apply(&Value::Uint(25))), 7.5);
    }

    #[test]
    fn flow_is_the_root_of_a_differential_pressure() {
        let flow = span("0..100 -> 0..400", false, true);
        assert_eq!([0, 25, 100, 400].map(|raw| float(flow.apply(&Value::Uint(raw)))), [0.0, 200.0, 400.0, 800.0]);
        assert_eq!(float(flow.apply(&Value::Int(-3))), 0.0, "noise below the end is no flow backwards");
        assert_eq!(flow.unapply(&Value::Float64(200.0), DataType::Uint16), Ok(Value::Uint(25)));
    }

    #[test]
    fn bits_are_turned_and_numbers_get_words() {
        let turned = Shaping::invert();
        assert_eq!(turned.apply(&Value::Bool(true)), Value::Bool(false));
        assert_eq!(turned.unapply(&Value::Bool(false), DataType::Bool), Ok(Value::Bool(true)));
        let words = Shaping::words("0=stopped; 1=running".parse().unwrap());
        assert_eq!(words.apply(&Value::Uint(1)), Value::Text("running".into()));
        assert_eq!(words.apply(&Value::Uint(9)), Value::Text("9".into()), "a number without a word is told as it is");
        assert_eq!(words.unapply(&Value::Text("running".into()), DataType::Uint16), Ok(Value::Uint(1)));
        assert_eq!(words.unapply(&Value::Text("asleep".into()), DataType::Uint16), Err(UnshapeError::Word));
        assert_eq!(
            (words.output(DataType::Uint16), turned.output(DataType::Bool)),
            (DataType::String(250), DataType::Bool)
        );
    }

    #[test]
    fn what_the_device_cannot_hold_is_refused() {
        let scaled = Shaping::linear(0.1, 0.0);
        assert_eq!(scaled.unapply(&Value::Float64(49.98), DataType::Uint16), Ok(Value::Uint(500)), "to the nearest");
        assert_eq!(
            scaled.unapply(&Value::Float64(-0.25), DataType::Int16),
            Ok(Value::Int(-3)),
            "halves away from zero"
        );
        for (value, data_type) in [(7000.0, DataType::Uint16), (-1.0, DataType::Uint32), (f64::NAN, DataType::Float64)]
        {
            assert_eq!(scaled.unapply(&Value::Float64(value), data_type), Err(UnshapeError::Range(data_type)));
        }
        assert_eq!(scaled.unapply(&Value::Text("x".into()), DataType::Uint16), Err(UnshapeError::Kind));
    }

    proptest! {
        #[test]
        fn decimal_scales_give_the_number_a_person_would_write(raw: i32, digits in 1_u32..7) {
            let divisor = 10_i64.pow(digits);
            let shaping = Shaping::linear(format!("1e-{digits}").parse().unwrap(), 0.0);
            let Value::Float64(value) = shaping.apply(&Value::Int(raw.into())) else { panic!() };
            let sign = if raw < 0 { "-" } else { "" };
            let magnitude = i64::from(raw).abs();
            let width = digits as usize;
            let text = format!("{sign}{}.{:0width$}", magnitude / divisor, magnitude % divisor);
            prop_assert_eq!(value, text.parse::<f64>().unwrap());
        }

        /// Whatever a device can say comes back as it was, once there and back.
        #[test]
        fn there_and_back_is_where_one_was(raw: i16, scale in 1e-3_f64..1e3, offset in -1e4_f64..1e4, low in -1e3_f64..0.0, high in 1.0_f64..1e3) {
            let raw = Value::Int(raw.into());
            for shaping in [
                Shaping::NONE,
                Shaping::linear(scale, offset),
                Shaping::linear(-scale, offset),
                Shaping::span(TwoEndedSpan { raw_low: -32_768.0, raw_high: 32_767.0, low, high }, false, false),
                Shaping::span(TwoEndedSpan { raw_low: -32_768.0, raw_high: 32_767.0, low: high, high: low }, true, false),
                Shaping::span(TwoEndedSpan { raw_low: -32_768.0, raw_high: 32_767.0, low, high }, true, true),
            ] {
                prop_assert_eq!(shaping.unapply(&shaping.apply(&raw), DataType::Int16), Ok(raw.clone()), "{:?}", shaping);
            }
        }
    }
}
