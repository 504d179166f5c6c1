use crate::{DataType, Enumeration, TwoEndedSpan, Value};

/// From the raw value to the engineering value.
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
            (Kind::None | Kind::Invert, raw) => raw,
            (_, raw) if !raw.is_numeric() => raw,
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
}

/// Why an engineering value has no raw one.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum UnapplyError {
    /// The value is of another kind than the point.
    #[error("{value} is no {wanted}")]
    Kind {
        /// The value.
        value: String,
        /// What would do.
        wanted: &'static str,
    },
    /// None of the words of the point.
    #[error("{word:?} is none of its words: {words}")]
    Word {
        /// What was asked for.
        word: String,
        /// What would do.
        words: String,
    },
    /// The point holds its values between two ends, and this one is outside.
    #[error("{value} is outside {low} to {high}, the ends of its span")]
    Ends {
        /// The value.
        value: f64,
        /// The lower one of its ends.
        low: f64,
        /// The upper one of its ends.
        high: f64,
    },
    /// The nearest raw value is outside what the type carries.
    #[error("{}", out_of_range(value, raw, *data_type))]
    Range {
        /// The value.
        value: String,
        /// What would have to be written.
        raw: String,
        /// The type.
        data_type: DataType,
    },
}

impl Shaping {
    /// The raw value to write for an engineering value: the way back of [`Shaping::apply`].
    ///
    /// Whole-number types take the nearest whole number, halves away from zero. Values that pass unchanged stay exactly
    /// what they are. What does not fit the type is refused, never held at its ends.
    ///
    /// # Errors
    /// [`UnapplyError`]
    pub fn unapply(&self, value: &Value, raw: DataType) -> Result<Value, UnapplyError> {
        let kind = |wanted| UnapplyError::Kind { value: value.to_string(), wanted };
        match (&self.0, raw, value) {
            (Kind::Invert, ..) => {
                bit(value).map(|bit| Value::Bool(!bit)).ok_or_else(|| kind("bit: write true or false"))
            }
            (_, DataType::Bool | DataType::Auto, _) => {
                bit(value).map(Value::Bool).ok_or_else(|| kind("bit: write true or false"))
            }
            (_, text, Value::Text(told)) if text.takes_text(told) => Ok(value.clone()),
            (_, text, _) if text.is_text() => Err(kind("text")),
            // A number that has no word means nothing to the device.
            (Kind::Words(words), _, Value::Int(_) | Value::Uint(_))
                if whole(value).is_none_or(|n| words.word(n).is_none()) =>
            {
                Err(UnapplyError::Word { word: value.to_string(), words: words.to_string() })
            }
            (Kind::Words(_), _, Value::Float32(_) | Value::Float64(_)) => Err(kind("whole number or word")),
            (Kind::Words(words), _, Value::Text(word)) => {
                let number = words
                    .number(word)
                    .ok_or_else(|| UnapplyError::Word { word: word.to_string(), words: words.to_string() })?;
                fitted(&Value::Int(number), raw).ok_or_else(|| range(value, &Value::Int(number), raw))
            }
            (_, _, Value::Text(_) | Value::Bool(_)) => Err(kind("number")),
            (Kind::None | Kind::Words(_), _, Value::Int(_) | Value::Uint(_)) if !raw.is_float() => {
                fitted(value, raw).ok_or_else(|| range(value, value, raw))
            }
            _ => {
                let number = self.back(value.as_f64().unwrap_or(f64::NAN))?;
                from_number(number, raw).ok_or_else(|| range(value, &Value::Float64(number), raw))
            }
        }
    }

    fn back(&self, value: f64) -> Result<f64, UnapplyError> {
        match &self.0 {
            Kind::None | Kind::Invert | Kind::Words(_) => Ok(value),
            Kind::Linear { step, offset } => {
                let scaled = value - offset;
                Ok(match step {
                    Step::None => scaled,
                    Step::Multiply(factor) => scaled / factor,
                    Step::Divide(divisor) => scaled * divisor,
                })
            }
            Kind::Span { span, clamp, root } => {
                let (low, high) = (span.low.min(span.high), span.low.max(span.high));
                let is_below = *root && (value - span.low) * (span.high - span.low) < 0.0;
                if (*clamp && !(low..=high).contains(&value)) || is_below {
                    return Err(UnapplyError::Ends { value, low, high });
                }
                let square = |way: f64| if *root { way * way } else { way };
                Ok(along(value, (span.low, span.high), (span.raw_low, span.raw_high), false, square))
            }
        }
    }
}

fn range(value: &Value, raw: &Value, data_type: DataType) -> UnapplyError {
    UnapplyError::Range { value: value.to_string(), raw: raw.to_string(), data_type }
}

fn out_of_range(value: &str, raw: &str, data_type: DataType) -> String {
    match value == raw {
        true => format!("{value} does not fit {data_type}"),
        false => format!("{value} would be {raw} in the device, which does not fit {data_type}"),
    }
}

/// A bit, also as the numbers 0 and 1.
fn bit(value: &Value) -> Option<bool> {
    match value {
        Value::Bool(bit) => Some(*bit),
        Value::Text(_) => None,
        number => {
            [(0.0, false), (1.0, true)].into_iter().find(|(of, _)| number.as_f64() == Some(*of)).map(|(_, bit)| bit)
        }
    }
}

/// A whole number, if the type carries it.
fn fitted(value: &Value, data_type: DataType) -> Option<Value> {
    crate::encode_registers(value, data_type, crate::ByteOrder::Abcd).ok().map(|_| value.clone())
}

fn from_number(number: f64, data_type: DataType) -> Option<Value> {
    match data_type {
        DataType::Float64 => number.is_finite().then_some(Value::Float64(number)),
        #[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
        DataType::Float16 => fitted(&Value::Float32(number as f32), data_type),
        #[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
        DataType::Float32 => Some(number as f32).filter(|number| number.is_finite()).map(Value::Float32),
        _ => {
            let whole = number.round();
            // Both bounds are powers of two, and so exact; from there on the cast keeps every whole double as it is.
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "inside the range of the type")]
            let value = match whole {
                // The least one of all stands for smaller numbers, too, which doubles cannot tell apart from it.
                whole if whole > -9_223_372_036_854_775_808.0 && whole < 0.0 => Value::Int(whole as i64),
                whole if (0.0..18_446_744_073_709_551_616.0).contains(&whole) => Value::Uint(whole as u64),
                _ => return None,
            };
            fitted(&value, data_type)
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
    }

    #[test]
    fn bits_are_turned_and_numbers_get_words() {
        let turned = Shaping::invert();
        assert_eq!(turned.apply(&Value::Bool(true)), Value::Bool(false));
        let words = Shaping::words("0=stopped; 1=running".parse().unwrap());
        assert_eq!(words.apply(&Value::Uint(1)), Value::Text("running".into()));
        assert_eq!(words.apply(&Value::Uint(9)), Value::Text("9".into()), "a number without a word is told as it is");
        assert_eq!(
            (words.output(DataType::Uint16), turned.output(DataType::Bool)),
            (DataType::String(250), DataType::Bool)
        );
    }

    #[test]
    fn what_cannot_be_written_is_refused_with_the_reason() {
        let told = |shaping: &Shaping, value, raw| shaping.unapply(&value, raw).unwrap_err().to_string();
        let tenths = Shaping::linear(0.1, 0.0);
        assert_eq!(tenths.unapply(&Value::Float64(42.25), DataType::Int16), Ok(Value::Uint(423)), "to the nearest");
        assert_eq!(
            told(&tenths, Value::Float64(4000.0), DataType::Int16),
            "4000 would be 40000 in the device, which does not fit int16"
        );
        assert_eq!(told(&tenths, Value::Bool(true), DataType::Int16), "true is no number");
        let words = Shaping::words("0=off;1=on".parse().unwrap());
        assert_eq!(words.unapply(&Value::Text("on".into()), DataType::Uint16), Ok(Value::Int(1)));
        assert_eq!(told(&words, Value::Text("up".into()), DataType::Uint16), "\"up\" is none of its words: 0=off;1=on");
        let held = span("0..100 -> 0..50", true, false);
        assert_eq!(told(&held, Value::Uint(51), DataType::Uint16), "51 is outside 0 to 50, the ends of its span");
        assert_eq!(told(&Shaping::NONE, Value::Uint(2), DataType::Bool), "2 is no bit: write true or false");
        assert_eq!(Shaping::invert().unapply(&Value::Uint(1), DataType::Bool), Ok(Value::Bool(false)));
        assert_eq!(words.unapply(&Value::Uint(1), DataType::Uint16), Ok(Value::Uint(1)));
        assert_eq!(told(&words, Value::Int(7), DataType::Uint16), "\"7\" is none of its words: 0=off;1=on");
        assert_eq!(
            told(&Shaping::NONE, Value::Float64(-9_223_372_036_854_775_809.0), DataType::Int64),
            "-9.223372036854776e18 does not fit int64"
        );
        assert!(Shaping::NONE.unapply(&Value::Float64(f64::NAN), DataType::Float32).is_err());
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

        #[test]
        fn writing_is_reading_the_other_way_round(raw: i16, digits in 0_u32..7, offset in -1000_i32..1000, which in 0_usize..4) {
            let words = Shaping::words(format!("{raw}=found").parse().unwrap());
            let linear = Shaping::linear(format!("1e-{digits}").parse().unwrap(), f64::from(offset));
            let laid = Shaping::span(TwoEndedSpan { raw_low: -7.0, raw_high: 27_648.0, low: 100.0, high: f64::from(offset) - 2000.0 }, false, false);
            let shaping = [Shaping::NONE, linear, laid, words][which].clone();
            let raw = Value::Int(raw.into());
            let back = shaping.unapply(&shaping.apply(&raw), DataType::Int16).unwrap();
            prop_assert_eq!(back.as_f64(), raw.as_f64());
        }

        #[test]
        fn a_flow_is_written_as_the_pressure_that_makes_it(raw in 0_u16..=27_648) {
            let flow = span("0..27648 -> 0..400", true, true);
            let back = flow.unapply(&flow.apply(&Value::Uint(raw.into())), DataType::Uint16);
            prop_assert_eq!(back, Ok(Value::Uint(raw.into())));
        }

        #[test]
        fn whole_numbers_without_shaping_pass_exactly_however_large(number: u64, signed: i64) {
            prop_assert_eq!(Shaping::NONE.unapply(&Value::Uint(number), DataType::Uint64), Ok(Value::Uint(number)));
            prop_assert_eq!(Shaping::NONE.unapply(&Value::Int(signed), DataType::Int64), Ok(Value::Int(signed)));
        }

        #[test]
        fn what_is_held_stays_between_the_ends_and_meets_them(raw: i16, root: bool, low in -1e3_f64..0.0, high in 1.0_f64..1e3) {
            for (low, high) in [(low, high), (high, low)] {
                let ends = TwoEndedSpan { raw_low: -9.0, raw_high: 9000.0, low, high };
                let held = Shaping::span(ends, true, root);
                let value = float(held.apply(&Value::Int(raw.into())));
                prop_assert!((low.min(high)..=low.max(high)).contains(&value), "{} of {}", value, ends);
                prop_assert_eq!(float(held.apply(&Value::Int(-9))), low);
                prop_assert_eq!(float(held.apply(&Value::Int(9000))), high);
            }
        }
    }
}
