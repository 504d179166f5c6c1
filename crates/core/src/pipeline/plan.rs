use super::report::{Report, ReportPolicy};
use crate::description::{Point, Span};
use crate::{Quality, Reason, Shaping, Value};
use std::sync::Arc;
use std::time::Duration;

/// How the samples of one point are treated.
#[derive(Debug, Clone, PartialEq)]
pub struct PointPlan {
    /// From raw to engineering value.
    pub shaping: Arc<Shaping>,
    /// Below this engineering value the quality is uncertain.
    pub low: Option<f64>,
    /// Above this engineering value the quality is uncertain.
    pub high: Option<f64>,
    /// What goes up.
    pub policy: ReportPolicy,
    /// After so long without a fresh value the quality is uncertain; `None` where a value holds until the device tells another.
    pub stale_after: Option<Duration>,
}

/// A value is not stale before, however short its period: so long a busy machine may take.
const SOONEST_STALE: Duration = Duration::from_secs(1);

impl PointPlan {
    /// As a point is described that is read once in a period, and stale after so many of them.
    #[must_use]
    pub fn polled(point: &Point, period: Span, stale_periods: u16) -> Self {
        let settings = &point.settings;
        let period = Duration::from(period);
        Self {
            shaping: Arc::clone(&point.shaping),
            low: settings.low,
            high: settings.high,
            policy: ReportPolicy {
                report: settings.report,
                deadband: settings.deadband(),
                min_interval: settings.min_interval.map(Duration::from),
                slack: slack(settings.report, period),
            },
            stale_after: Some((period * u32::from(stale_periods)).max(SOONEST_STALE)),
        }
    }

    /// A raw value as its engineering value, the same as a number where it is one, and what it is worth: what comes as good is
    /// doubtful beyond the limits, and what is not good stays so. What is no finite number is no value.
    #[inline]
    pub(super) fn shaped(&self, raw: &Value, quality: Quality) -> (Option<Value>, Option<f64>, Quality) {
        let value = self.shaping.apply(raw);
        let number = value.as_f64();
        match number {
            Some(number) if number.is_nan() => return (None, None, Quality::Bad(Reason::NotANumber)),
            Some(number) if number.is_infinite() => return (None, None, Quality::Bad(Reason::Infinite)),
            _ => {}
        }
        let is_outside =
            |number: f64| self.low.is_some_and(|low| number < low) || self.high.is_some_and(|high| number > high);
        let is_doubtful = quality.is_good() && number.is_some_and(is_outside);
        (Some(value), number, if is_doubtful { Quality::Uncertain(Reason::OutOfRange) } else { quality })
    }
}

/// How long after the end of a report's period the next value is waited for, before the one that is known is told again: where
/// values come more often than reports, one of them is about to.
fn slack(report: Report, period: Duration) -> Duration {
    match report.period() {
        Some(span) if period <= span => period + (period / 10).max(Duration::from_millis(50)),
        _ => Duration::ZERO,
    }
}
