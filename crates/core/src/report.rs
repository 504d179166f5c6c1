use crate::{Quality, Timestamp, Value};
use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use crate::description::Span;

/// When a point's value goes up.
///
/// Written `change`, `every 10s`, `change+every 10s` or `never`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Report {
    /// When the value moved by more than the deadband, or the quality changed.
    #[default]
    Change,
    /// At this period, whether it changed or not.
    Every(Span),
    /// On change, and at the latest after this period.
    ChangeOrEvery(Span),
    /// Not at all; the value is still polled and shown.
    Never,
}

/// A text that is no [`Report`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a report")]
pub struct ParseReportError(String);

impl FromStr for Report {
    type Err = ParseReportError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fail = || ParseReportError(text.to_owned());
        let period = |span: &str| span.trim().parse::<Span>().map_err(|_| fail());
        match text {
            "change" => Ok(Self::Change),
            "never" => Ok(Self::Never),
            _ => match (text.strip_prefix("change+every "), text.strip_prefix("every ")) {
                (Some(span), _) => Ok(Self::ChangeOrEvery(period(span)?)),
                (None, Some(span)) => Ok(Self::Every(period(span)?)),
                (None, None) => Err(fail()),
            },
        }
    }
}

impl fmt::Display for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Change => f.write_str("change"),
            Self::Every(span) => write!(f, "every {span}"),
            Self::ChangeOrEvery(span) => write!(f, "change+every {span}"),
            Self::Never => f.write_str("never"),
        }
    }
}

/// What was reported last of one point: the memory of the report policy.
#[derive(Debug, Clone)]
pub struct ReportState {
    last: Option<Reported>,
}

#[derive(Debug, Clone)]
struct Reported {
    value: Option<Value>,
    quality: Quality,
    at: Timestamp,
}

impl ReportState {
    /// Nothing reported so far: the first sample always goes up, unless the report is `never`.
    #[must_use]
    pub const fn new() -> Self {
        Self { last: None }
    }

    /// Decides whether this reading goes up, and if so remembers it as the last one reported.
    ///
    /// `deadband` is in engineering units; a numeric value goes up when it is further than that from the one
    /// reported last, so that slow drifts are not lost. A change of the value alone waits until `min_interval` has passed
    /// since the last report: it goes up then, with what the value is by then.
    pub fn is_due(
        &mut self,
        report: Report,
        (deadband, min_interval): (f64, Option<Span>),
        value: Option<&Value>,
        quality: Quality,
        now: Timestamp,
    ) -> bool {
        let is_held = |last: &Reported| {
            last.quality == quality && min_interval.is_some_and(|interval| !last.is_older(interval, now))
        };
        let due = match (&self.last, report) {
            (_, Report::Never) => false,
            (None, _) => true,
            (Some(last), Report::Change | Report::ChangeOrEvery(_)) if is_held(last) => false,
            (Some(last), Report::Change) => last.differs(deadband, value, quality),
            (Some(last), Report::Every(span)) => last.quality != quality || last.is_older(span, now),
            (Some(last), Report::ChangeOrEvery(span)) => {
                last.differs(deadband, value, quality) || last.is_older(span, now)
            }
        };
        if due {
            self.last = Some(Reported { value: value.cloned(), quality, at: now });
        }
        due
    }
}

impl Default for ReportState {
    fn default() -> Self {
        Self::new()
    }
}

impl Reported {
    fn is_older(&self, span: Span, now: Timestamp) -> bool {
        now.since(self.at) >= Duration::from(span)
    }

    fn differs(&self, deadband: f64, value: Option<&Value>, quality: Quality) -> bool {
        if self.quality != quality {
            return true;
        }
        match (&self.value, value) {
            (Some(before), Some(after)) if deadband > 0.0 => match (before.as_f64(), after.as_f64()) {
                (Some(before), Some(after)) => (after - before).abs() > deadband,
                _ => before != after,
            },
            (before, after) => before.as_ref() != after,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Reason;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_millis(seconds * 1000)
    }

    /// Feeds `(second, value)` and returns the seconds at which a value went up.
    fn due(report: &str, deadband: f64, values: &[(i64, f64)]) -> Vec<i64> {
        let report = report.parse().unwrap();
        let mut state = ReportState::new();
        let mut up = |second, value| {
            state.is_due(report, (deadband, None), Some(&Value::Float64(value)), Quality::Good, at(second))
        };
        values.iter().filter(|(second, value)| up(*second, *value)).map(|(second, _)| *second).collect()
    }

    #[test]
    fn a_slow_drift_goes_up_once_it_leaves_the_deadband() {
        let drift = [(0, 10.0), (1, 10.04), (2, 10.08), (3, 10.12), (4, 10.16), (5, 10.2)];
        assert_eq!(due("change", 0.1, &drift), [0, 3]);
        assert_eq!(due("change", 0.0, &[(0, 1.0), (1, 1.0), (2, 1.5)]), [0, 2]);
    }

    #[test]
    fn periods_and_changes_combine() {
        let flat = [(0, 1.0), (4, 1.0), (5, 1.0), (6, 2.0), (9, 2.0), (11, 2.0)];
        assert_eq!(due("every 5s", 0.0, &flat), [0, 5, 11]);
        assert_eq!(due("change+every 5s", 0.0, &flat), [0, 5, 6, 11]);
        assert!(due("never", 0.0, &flat).is_empty());
    }

    #[test]
    fn a_change_of_quality_goes_up_at_once() {
        for report in ["change", "every 1h", "change+every 1h"] {
            let mut state = ReportState::new();
            let mut up = |quality, second| {
                state.is_due(report.parse().unwrap(), (5.0, None), Some(&Value::Uint(1)), quality, at(second))
            };
            assert!(up(Quality::Good, 0));
            assert!(up(Quality::Bad(Reason::Timeout), 1), "{report}");
            assert!(!up(Quality::Bad(Reason::Timeout), 2), "{report}");
        }
    }

    #[test]
    fn fast_changes_wait_for_the_interval_and_qualities_do_not() {
        let mut state = ReportState::new();
        let interval = Some("5s".parse().unwrap());
        let mut up = |second, value, quality| {
            state.is_due(Report::Change, (0.5, interval), Some(&Value::Float64(value)), quality, at(second))
        };
        assert!(up(0, 1.0, Quality::Good));
        assert!(!up(1, 9.0, Quality::Good) && !up(4, 3.0, Quality::Good), "too soon");
        assert!(up(5, 3.0, Quality::Good), "what it is by then");
        assert!(up(6, 3.0, Quality::Uncertain(Reason::OutOfRange)), "a change of quality at once");
        assert!(!up(12, 3.2, Quality::Uncertain(Reason::OutOfRange)), "within the deadband");
    }

    #[test]
    fn reports_read_back_from_their_own_text() {
        for text in ["change", "every 1m", "change+every 500ms", "never"] {
            assert_eq!(text.parse::<Report>().unwrap().to_string(), text);
        }
        for wrong in ["", "always", "every", "every 0s", "change + every 5s", "every -1s"] {
            assert!(wrong.parse::<Report>().is_err(), "{wrong}");
        }
    }
}
