use crate::error::TrialError;
use std::time::Duration;

/// Why something that is done once ends before it is done.
#[derive(Debug)]
pub(crate) struct End<'a> {
    pub(crate) target: &'a str,
    pub(crate) why: &'a str,
    /// Whether a request is out whose answer will not be heard.
    pub(crate) is_sent: bool,
}

impl End<'_> {
    pub(crate) fn error(&self) -> TrialError {
        let (target, why) = (self.target.to_owned(), self.why.to_owned());
        if self.is_sent { TrialError::Lost { target, why } } else { TrialError::Connect { target, why } }
    }
}

/// To hundredths, as people are told.
pub(crate) fn milliseconds(took: Duration) -> f64 {
    (took.as_secs_f64() * 1e5).round() / 100.0
}
