//! What a device says of a point beside its values: unit, range, words, title.

use crate::description::{Point, PointSettings, PointTraits};
use crate::{Enumeration, Shaping};
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// What a device says of a point beside its values.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Semantics {
    /// The unit of its values.
    pub unit: Option<String>,
    /// The ends of their range, the lower one first.
    pub range: Option<(f64, f64)>,
    /// The words of its numbers.
    pub words: Option<Enumeration>,
    /// What people call it.
    pub title: Option<String>,
}

/// What of it is taken from the device as it runs, in place of what a list could say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AutoParts {
    /// The unit.
    pub unit: bool,
    /// Low and high.
    pub range: bool,
    /// The enumeration.
    pub words: bool,
    /// The title.
    pub title: bool,
}

/// A text that is no [`AutoParts`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is nothing that a device says of a point")]
pub struct ParseAutoPartsError(String);

impl AutoParts {
    /// Nothing.
    pub const NONE: Self = Self { unit: false, range: false, words: false, title: false };
    /// What a file should say, for messages.
    pub const FORM: &str = "unit, range, words, title, with ; between several";

    /// Whether nothing is taken.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::NONE
    }

    fn part(&mut self, word: &str) -> Option<&mut bool> {
        Some(match word {
            "unit" => &mut self.unit,
            "range" => &mut self.range,
            "words" => &mut self.words,
            "title" => &mut self.title,
            _ => return None,
        })
    }

    /// Only that of what a device says which is to be taken.
    #[must_use]
    pub fn of(&self, told: Semantics) -> Semantics {
        Semantics {
            unit: told.unit.filter(|_| self.unit),
            range: told.range.filter(|_| self.range),
            words: told.words.filter(|_| self.words),
            title: told.title.filter(|_| self.title),
        }
    }
}

impl FromStr for AutoParts {
    type Err = ParseAutoPartsError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut parts = Self::NONE;
        for word in text.split(';').map(str::trim).filter(|word| !word.is_empty()) {
            *parts.part(word).ok_or_else(|| ParseAutoPartsError(text.to_owned()))? = true;
        }
        Ok(parts)
    }
}

impl fmt::Display for AutoParts {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts = [("unit", self.unit), ("range", self.range), ("words", self.words), ("title", self.title)];
        let words: Vec<_> = parts.into_iter().filter(|(_, is_taken)| *is_taken).map(|(word, _)| word).collect();
        f.write_str(&words.join(";"))
    }
}

impl Semantics {
    /// A point with what its device says in the places that its list leaves to it. Words stand in place of a range: they have
    /// no limits.
    #[must_use]
    pub fn fill(&self, point: &Point) -> Point {
        let Self { unit, range, words, title } = self;
        let (low, high) = range.filter(|_| words.is_none()).unzip();
        let traits = PointTraits {
            unit: unit.clone().unwrap_or_else(|| point.settings.unit.clone()),
            low: low.or(point.settings.low),
            high: high.or(point.settings.high),
            enumeration: words.clone().or_else(|| point.settings.enumeration.clone()),
            ..PointTraits::clone(&point.settings.traits)
        };
        let title = title.as_deref().map_or_else(|| point.settings.title.clone(), Into::into);
        let settings = PointSettings { traits: traits.into(), title, ..point.settings.clone() };
        let shaping = words.clone().map_or_else(|| Arc::clone(&point.shaping), |words| Shaping::words(words).into());
        Point { settings, shaping, ..point.clone() }
    }
}
