use crate::Value;

/// From the raw value to the engineering value: `raw × scale + offset`.
///
/// A scale that is one over a whole number (0.1, 0.01, 1/60) is carried out as a division, so that 4998 at a
/// scale of 0.01 is exactly the double nearest to 49.98 and not its neighbour.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shaping {
    step: Step,
    offset: f64,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Step {
    None,
    Multiply(f64),
    Divide(f64),
}

impl Shaping {
    /// Leaves every value as it is.
    pub const NONE: Self = Self { step: Step::None, offset: 0.0 };

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
        Self { step, offset }
    }

    /// Whether values pass unchanged, and so keep their own type.
    #[must_use]
    pub fn is_none(&self) -> bool {
        *self == Self::NONE
    }

    /// The engineering value of `raw`. Bits and text pass unchanged.
    #[must_use]
    pub fn apply(&self, raw: &Value) -> Value {
        if self.is_none() || matches!(raw, Value::Bool(_) | Value::Text(_)) {
            return raw.clone();
        }
        let number = raw.as_f64().unwrap_or(f64::NAN);
        let scaled = match self.step {
            Step::None => number,
            Step::Multiply(factor) => number * factor,
            Step::Divide(divisor) => number / divisor,
        };
        Value::Float64(scaled + self.offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn no_scale_keeps_the_type() {
        assert_eq!(Shaping::linear(1.0, 0.0).apply(&Value::Uint(7)), Value::Uint(7));
        assert_eq!(Shaping::linear(0.1, 0.0).apply(&Value::Bool(true)), Value::Bool(true));
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
    }
}
