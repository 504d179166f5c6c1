use std::fmt;
use std::str::FromStr;

/// Two ends of the raw value laid on two ends of the engineering value: `0..27648 -> -50..150`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TwoEndedSpan {
    /// The raw value at the lower end.
    pub raw_low: f64,
    /// The raw value at the upper end; not the same as `raw_low`.
    pub raw_high: f64,
    /// The engineering value at the lower end.
    pub low: f64,
    /// The engineering value at the upper end; not the same as `low`.
    pub high: f64,
}

/// A text that is no [`TwoEndedSpan`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no two-ended span")]
pub struct ParseTwoEndedSpanError(String);

impl TwoEndedSpan {
    /// What a file should say, for messages.
    pub const FORM: &str = "two ends of the raw value and two of the engineering value, such as 0..27648 -> -50..150";
}

impl FromStr for TwoEndedSpan {
    type Err = ParseTwoEndedSpanError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let ends = |text: &str| {
            let (low, high) = text.split_once("..")?;
            let (low, high): (f64, f64) = (low.trim().parse().ok()?, high.trim().parse().ok()?);
            (low.is_finite() && high.is_finite() && low != high).then_some((low, high))
        };
        let parsed = text.split_once("->").and_then(|(raw, value)| Some((ends(raw)?, ends(value)?)));
        let ((raw_low, raw_high), (low, high)) = parsed.ok_or_else(|| ParseTwoEndedSpanError(text.to_owned()))?;
        Ok(Self { raw_low, raw_high, low, high })
    }
}

impl fmt::Display for TwoEndedSpan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}..{} -> {}..{}", self.raw_low, self.raw_high, self.low, self.high)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn spans_read_back_from_their_own_text(raw_low: i32, by in 1_i32..1000, low in -1e6_f64..1e6, up in 0.1_f64..1e6) {
            let raw_low = f64::from(raw_low);
            let span = TwoEndedSpan { raw_low, raw_high: raw_low + f64::from(by), low, high: low + up };
            prop_assert_eq!(span.to_string().parse(), Ok(span));
        }
    }

    #[test]
    fn what_has_no_two_ends_is_refused() {
        for text in [
            "",
            "0..1",
            "0..0 -> 0..1",
            "0..1 -> 5..5",
            "0..1 -> 0..NaN",
            "0..1 => 0..1",
            "0-1 -> 0-1",
            "0..1 -> 0..1 -> 2",
        ] {
            assert!(text.parse::<TwoEndedSpan>().is_err(), "{text}");
        }
    }
}
