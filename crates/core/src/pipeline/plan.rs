use super::report::{Report, ReportPolicy};
use crate::description::{Point, Span};
use crate::{Quality, Reason, Shaping, Value};
use std::time::Duration;

/// How the samples of one point are treated.
#[derive(Debug, Clone, PartialEq)]
pub struct PointPlan {
    /// From raw to engineering value.
    pub shaping: Shaping,
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
            shaping: point.shaping.clone(),
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

    /// What a good value is worth once its limits are known; what is not good stays so.
    pub(super) fn judge(&self, value: &Value, quality: Quality) -> Quality {
        if value.is_nan() {
            return Quality::Bad(Reason::NotANumber);
        }
        if value.is_not_finite() {
            return Quality::Bad(Reason::Infinite);
        }
        if !quality.is_good() || (self.low.is_none() && self.high.is_none()) {
            return quality;
        }
        let outside = value.as_f64().is_some_and(|number| {
            self.low.is_some_and(|low| number < low) || self.high.is_some_and(|high| number > high)
        });
        if outside { Quality::Uncertain(Reason::OutOfRange) } else { quality }
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
