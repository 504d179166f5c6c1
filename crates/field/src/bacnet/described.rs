use super::mapping::{limits, state_words};
use interlex_bacnet::{Content, PropertyIdentifier, Value as Told, unit};
use interlex_core::Semantics;

/// What an object says of itself beside its value.
#[derive(Debug, Default)]
pub(super) struct Described {
    unit: Option<String>,
    title: Option<String>,
    low: Option<f64>,
    high: Option<f64>,
    words: Option<String>,
}

impl Described {
    /// One of its properties is known.
    pub(super) fn take(&mut self, property: PropertyIdentifier, content: &Content) {
        let one = content.one();
        let number = || one.as_ref().and_then(Told::as_f64);
        match property {
            PropertyIdentifier::UNITS => {
                let number = one.as_ref().and_then(Told::as_unsigned).and_then(|number| u32::try_from(number).ok());
                self.unit = number.and_then(unit).map(str::to_owned);
            }
            PropertyIdentifier::DESCRIPTION => {
                self.title = one.as_ref().and_then(Told::as_str).filter(|text| !text.is_empty()).map(str::to_owned);
            }
            PropertyIdentifier::MIN_PRES_VALUE => self.low = number(),
            PropertyIdentifier::MAX_PRES_VALUE => self.high = number(),
            PropertyIdentifier::STATE_TEXT => self.words = state_words(content),
            _ => {}
        }
    }

    /// The same, as points take it.
    pub(super) fn semantics(&self) -> Semantics {
        Semantics {
            unit: self.unit.clone(),
            range: limits(self.low, self.high),
            words: self.words.as_deref().and_then(|words| words.parse().ok()),
            title: self.title.clone(),
        }
    }
}
