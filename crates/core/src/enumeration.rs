use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// Words for whole numbers: `0=stopped;1=running;2=fault`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Enumeration {
    /// By number, so that one is found quickly.
    words: Arc<[(i64, Arc<str>)]>,
}

/// A text that is no [`Enumeration`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no enumeration")]
pub struct ParseEnumerationError(String);

impl Enumeration {
    /// What a file should say, for messages.
    pub const FORM: &str = "numbers with a word each, none of them twice, such as 0=stopped;1=running";

    /// The number of a word.
    #[must_use]
    pub fn number(&self, word: &str) -> Option<i64> {
        self.words.iter().find(|(_, known)| &**known == word).map(|(number, _)| *number)
    }

    /// The word of a number.
    #[must_use]
    pub fn word(&self, number: i64) -> Option<&Arc<str>> {
        let at = self.words.binary_search_by_key(&number, |(number, _)| *number).ok()?;
        self.words.get(at).map(|(_, word)| word)
    }
}

impl FromStr for Enumeration {
    type Err = ParseEnumerationError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let pair = |part: &str| {
            let (number, word) = part.split_once('=')?;
            let word = word.trim();
            (!word.is_empty()).then_some((number.trim().parse::<i64>().ok()?, Arc::<str>::from(word)))
        };
        let error = || ParseEnumerationError(text.to_owned());
        let mut words = text.split(';').map(pair).collect::<Option<Vec<_>>>().ok_or_else(error)?;
        words.sort();
        let mut spoken: Vec<_> = words.iter().map(|(_, word)| word).collect();
        spoken.sort();
        let is_unique = words.windows(2).all(|pair| pair.first().map(|p| p.0) != pair.last().map(|p| p.0))
            && spoken.windows(2).all(|pair| pair.first() != pair.last());
        if is_unique { Ok(Self { words: words.into() }) } else { Err(error()) }
    }
}

impl fmt::Display for Enumeration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, (number, word)) in self.words.iter().enumerate() {
            let separator = if at == 0 { "" } else { ";" };
            write!(f, "{separator}{number}={word}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_words() {
        let modes: Enumeration = "2 = fault; -1=off ;0=stopped".parse().unwrap();
        assert_eq!(modes.to_string(), "-1=off;0=stopped;2=fault");
        assert_eq!((modes.word(0).map(|word| &**word), modes.word(1)), (Some("stopped"), None));
        for text in ["", "0", "0=", "x=1", "0=a;0=b", "0=a;1=a", "0=a;;1=b", "1.5=a"] {
            assert!(text.parse::<Enumeration>().is_err(), "{text}");
        }
    }
}
