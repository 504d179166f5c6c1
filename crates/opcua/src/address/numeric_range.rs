use std::fmt;
use std::str::FromStr;

/// Some elements of an array, or some bytes of a text: `3`, `0:5`, or `1:2,0:1` of a matrix.
///
/// Source: OPC 10000-4, section 7.27.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct NumericRange(Vec<(u32, u32)>);

/// A text that is no range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no range: it is written like 3 for one element, 0:5 for six, or 1:2,0:1 of a matrix")]
pub struct ParseNumericRangeError(String);

impl NumericRange {
    /// The first and the last element in each dimension.
    #[must_use]
    pub fn dimensions(&self) -> &[(u32, u32)] {
        &self.0
    }

    /// How many elements it means, where there are so many.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.0.iter().map(|(first, last)| u64::from(last - first) + 1).fold(1, u64::saturating_mul)
    }
}

impl FromStr for NumericRange {
    type Err = ParseNumericRangeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let number = |digits: &str| {
            let is_plain = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
            digits.parse::<u32>().ok().filter(|_| is_plain)
        };
        let dimension = |text: &str| match text.split_once(':') {
            // A range of one element is written as that element.
            Some((first, last)) => number(first).zip(number(last)).filter(|(first, last)| first < last),
            None => number(text).map(|only| (only, only)),
        };
        let dimensions: Option<Vec<_>> = text.split(',').map(dimension).collect();
        dimensions.map(Self).ok_or_else(|| ParseNumericRangeError(text.to_owned()))
    }
}

impl fmt::Display for NumericRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, (first, last)) in self.0.iter().enumerate() {
            let comma = if place == 0 { "" } else { "," };
            if first == last { write!(f, "{comma}{first}")? } else { write!(f, "{comma}{first}:{last}")? }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_writes_them() {
        for (text, count) in
            [("0", 1), ("3", 1), ("0:5", 6), ("1:2,0:1", 4), ("0,1,2", 1), ("0:4294967295", 4_294_967_296)]
        {
            let range: NumericRange = text.parse().unwrap();
            assert_eq!((range.to_string().as_str(), range.count()), (text, count));
        }
        for text in ["", ":", "1:", ":2", "5:1", "2:2", "-1", "+1", "1:2:3", "1,", "4294967296", " 1"] {
            assert!(text.parse::<NumericRange>().is_err(), "{text}");
        }
    }
}
