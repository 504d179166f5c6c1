use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;
use std::time::Duration;

/// A span of time as the files write it: a whole number and `ms`, `s`, `m`, `h` or `d`.
///
/// From 1 ms to 366 days; zero is refused, since no rate, timeout or period of zero can be kept. It is written
/// back in the largest unit that loses nothing: `60s` becomes `1m`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Span {
    millis: u64,
}

const UNITS: [(&str, u64); 5] = [("d", 86_400_000), ("h", 3_600_000), ("m", 60_000), ("s", 1000), ("ms", 1)];
const LONGEST_MILLIS: u64 = 366 * 86_400_000;

/// A text that is no [`Span`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ParseSpanError {
    /// Not a number with a unit.
    #[error("{0:?} is not a span of time")]
    Form(String),
    /// Zero, or more than 366 days.
    #[error("{0:?} is not between 1ms and 366d")]
    Range(String),
}

impl Span {
    /// What a file should say, for messages.
    pub const FORM: &str = "a span of time from 1ms to 366d, such as \"500ms\", \"2s\" or \"1h\"";

    /// Whole milliseconds.
    #[must_use]
    pub const fn as_millis(self) -> u64 {
        self.millis
    }

    /// A span of whole milliseconds; zero becomes one.
    #[must_use]
    pub const fn from_millis(millis: u64) -> Self {
        Self { millis: if millis == 0 { 1 } else { millis } }
    }
}

impl From<Span> for Duration {
    fn from(span: Span) -> Self {
        Self::from_millis(span.millis)
    }
}

impl FromStr for Span {
    type Err = ParseSpanError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let form = || ParseSpanError::Form(text.to_owned());
        let digits = text.find(|c: char| !c.is_ascii_digit()).ok_or_else(form)?;
        let (number, unit) = text.split_at(digits);
        let (_, factor) = UNITS.iter().find(|(name, _)| *name == unit).ok_or_else(form)?;
        let number: u64 = number.parse().map_err(|_| form())?;
        number
            .checked_mul(*factor)
            .filter(|millis| (1..=LONGEST_MILLIS).contains(millis))
            .map(|millis| Self { millis })
            .ok_or_else(|| ParseSpanError::Range(text.to_owned()))
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (unit, factor) = UNITS.iter().find(|(_, factor)| self.millis.is_multiple_of(*factor)).unwrap_or(&("ms", 1));
        write!(f, "{}{unit}", self.millis / factor)
    }
}

impl TryFrom<String> for Span {
    type Error = ParseSpanError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Span> for String {
    fn from(span: Span) -> Self {
        span.to_string()
    }
}

impl JsonSchema for Span {
    fn schema_name() -> Cow<'static, str> {
        "Span".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "format": "span" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_written_in_the_largest_unit_that_loses_nothing() {
        for (text, written) in [("500ms", "500ms"), ("1500ms", "1500ms"), ("60s", "1m"), ("48h", "2d")] {
            assert_eq!(text.parse::<Span>().unwrap().to_string(), written);
        }
    }

    #[test]
    fn zero_and_nonsense_are_refused() {
        for text in ["0s", "0ms", "367d", "99999999999999999999s", "18446744073709551615d"] {
            assert!(text.parse::<Span>().is_err(), "{text}");
        }
        for text in ["", "5", "s", "-1s", "1.5s", "5 s", "5S", "5min", "½s"] {
            assert_eq!(text.parse::<Span>(), Err(ParseSpanError::Form(text.to_owned())));
        }
    }
}
