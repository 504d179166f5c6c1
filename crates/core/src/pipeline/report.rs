use super::tick::Tick;
use crate::description::Span;
use crate::{Quality, Value};
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;

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

impl Report {
    /// The period in which a value goes up in any case.
    #[must_use]
    pub fn period(self) -> Option<Duration> {
        match self {
            Self::Every(span) | Self::ChangeOrEvery(span) => Some(span.into()),
            Self::Change | Self::Never => None,
        }
    }

    const fn tells_changes(self) -> bool {
        matches!(self, Self::Change | Self::ChangeOrEvery(_))
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

/// What goes up of a point, and how often.
#[derive(Debug, Clone, PartialEq)]
pub struct ReportPolicy {
    /// When a value goes up.
    pub report: Report,
    /// By how much it must move to go up on change, in engineering units.
    pub deadband: f64,
    /// How long a change waits at least after the report before it.
    pub min_interval: Option<Duration>,
    /// How long after the end of a period a fresh value is waited for.
    pub slack: Duration,
}

/// What was reported last of one point: the memory of the report policy.
#[derive(Debug, Clone, Default)]
pub struct ReportState {
    last: Option<Reported>,
}

/// Why something that is known goes up without anything new.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DueAgain {
    /// A change had to wait until the least interval was over.
    HeldChange,
    /// A period is over.
    Period,
}

/// There is one of each point: 32 bytes.
#[derive(Debug, Clone)]
struct Reported {
    value: Option<Told>,
    /// The bits of the quality, and [`HELD`].
    tags: u64,
    /// Of points alone whose policy depends on time.
    timing: Option<Box<Timing>>,
}

#[derive(Debug, Clone, Copy)]
struct Timing {
    /// When it was reported.
    at: Tick,
    /// When the period is over that has begun with the last report; those of `every` stand on a grid.
    period_ends: Option<Tick>,
}

/// A change waits for the least interval.
const HELD: u64 = 1 << 63;

/// A value in less room: text is rare.
#[derive(Debug, Clone)]
enum Told {
    Bool(bool),
    Int(i64),
    Uint(u64),
    Float32(f32),
    Float64(f64),
    Text(Box<Arc<str>>),
}

impl Told {
    fn of(value: &Value) -> Self {
        match value {
            Value::Bool(bit) => Self::Bool(*bit),
            Value::Int(int) => Self::Int(*int),
            Value::Uint(uint) => Self::Uint(*uint),
            Value::Float32(float) => Self::Float32(*float),
            Value::Float64(float) => Self::Float64(*float),
            Value::Text(text) => Self::Text(Box::new(Arc::clone(text))),
        }
    }

    fn value(&self) -> Value {
        match self {
            Self::Bool(bit) => Value::Bool(*bit),
            Self::Int(int) => Value::Int(*int),
            Self::Uint(uint) => Value::Uint(*uint),
            Self::Float32(float) => Value::Float32(*float),
            Self::Float64(float) => Value::Float64(*float),
            Self::Text(text) => Value::Text(Arc::clone(text)),
        }
    }
}

impl ReportState {
    /// Nothing reported so far: the first sample always goes up, unless the report is `never`.
    #[must_use]
    pub const fn new() -> Self {
        Self { last: None }
    }

    /// Decides whether this reading goes up, and if so remembers it as the last one reported.
    ///
    /// A numeric value goes up when it is further than the deadband from the one reported last, so that slow drifts are not
    /// lost. A change of the value alone waits until the least interval has passed since the last report: it goes up then,
    /// with what the value is by then ([`ReportState::deadline`]).
    pub fn is_due(&mut self, policy: &ReportPolicy, value: Option<&Value>, quality: Quality, now: Tick) -> bool {
        let due = match &mut self.last {
            _ if policy.report == Report::Never => false,
            None => true,
            Some(last) => {
                let differs = last.differs(policy.deadband, value, quality);
                let is_other = !last.is_of(quality);
                let may_change = is_other || last.at_least(policy.min_interval, now);
                let is_change = policy.report.tells_changes() && differs;
                last.hold(is_change && !may_change);
                let is_over = last.period_ends().is_some_and(|end| now >= end);
                let may_end = may_change || !policy.report.tells_changes();
                is_other || (is_change && may_change) || (is_over && may_end)
            }
        };
        if due {
            self.reported(policy, value, quality, now);
        }
        due
    }

    /// What goes up whatever the policy says of changes, as events do. `false` for what never goes up.
    pub fn take_event(&mut self, policy: &ReportPolicy, value: Option<&Value>, quality: Quality, now: Tick) -> bool {
        let is_due = policy.report != Report::Never;
        if is_due {
            self.reported(policy, value, quality, now);
        }
        is_due
    }

    /// Decides whether what is known goes up now, though nothing new came.
    pub fn is_due_again(
        &mut self,
        policy: &ReportPolicy,
        value: Option<&Value>,
        quality: Quality,
        now: Tick,
    ) -> Option<DueAgain> {
        let last = self.last.as_mut()?;
        let is_released = last.is_held() && last.at_least(policy.min_interval, now);
        let why = if is_released && last.differs(policy.deadband, value, quality) {
            Some(DueAgain::HeldChange)
        } else if last.period_ends().is_some_and(|end| now >= end + policy.slack) {
            Some(DueAgain::Period)
        } else {
            last.hold(last.is_held() && !is_released);
            None
        };
        if why.is_some() {
            self.reported(policy, value, quality, now);
        }
        why
    }

    /// Whether time alone may make something due.
    pub(super) fn is_timed(&self) -> bool {
        self.last.as_ref().is_some_and(|last| last.is_held() || last.period_ends().is_some())
    }

    /// When [`ReportState::is_due_again`] is to be asked, if nothing new comes before.
    #[must_use]
    pub fn deadline(&self, policy: &ReportPolicy) -> Option<Tick> {
        let last = self.last.as_ref()?;
        let held_since = last.timing.as_ref().filter(|_| last.is_held()).map(|timing| timing.at);
        let released = held_since.zip(policy.min_interval).map(|(at, interval)| at + interval);
        let told_again = last.period_ends().map(|end| end + policy.slack);
        released.into_iter().chain(told_again).min()
    }

    fn reported(&mut self, policy: &ReportPolicy, value: Option<&Value>, quality: Quality, now: Tick) {
        let period_ends = policy.report.period().map(|period| {
            let before = self.last.as_ref().and_then(Reported::period_ends);
            let on_grid = before.filter(|end| matches!(policy.report, Report::Every(_)) && now >= *end);
            match on_grid {
                // In step, unless a whole period was missed.
                Some(end) if now < end + period => end + period,
                _ => now + period,
            }
        });
        let known = self.last.take().and_then(|last| last.timing);
        let is_timed = policy.min_interval.is_some() || period_ends.is_some();
        let timing = is_timed.then(|| {
            let timing = Timing { at: now, period_ends };
            let mut kept = known.unwrap_or_else(|| Box::new(timing));
            *kept = timing;
            kept
        });
        self.last = Some(Reported { value: value.map(Told::of), tags: quality.to_bits(), timing });
    }
}

impl Reported {
    const fn is_held(&self) -> bool {
        self.tags & HELD != 0
    }

    fn period_ends(&self) -> Option<Tick> {
        self.timing.as_ref().and_then(|timing| timing.period_ends)
    }

    const fn hold(&mut self, is_held: bool) {
        self.tags = self.tags & !HELD | if is_held { HELD } else { 0 };
    }

    fn is_of(&self, quality: Quality) -> bool {
        self.tags & !HELD == quality.to_bits()
    }

    fn at_least(&self, interval: Option<Duration>, now: Tick) -> bool {
        let since = self.timing.as_ref().map(|timing| now.since(timing.at));
        interval.zip(since).is_none_or(|(interval, since)| since >= interval)
    }

    fn differs(&self, deadband: f64, value: Option<&Value>, quality: Quality) -> bool {
        if !self.is_of(quality) {
            return true;
        }
        match (self.value.as_ref().map(Told::value).as_ref(), value) {
            (Some(before), Some(after)) if deadband > 0.0 => match (before.as_f64(), after.as_f64()) {
                (Some(before), Some(after)) => (after - before).abs() > deadband,
                _ => before != after,
            },
            (before, after) => before != after,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Reason;

    struct Bench {
        state: ReportState,
        policy: ReportPolicy,
    }

    impl Bench {
        fn new(report: &str, deadband: f64, min_interval: Option<u64>) -> Self {
            let min_interval = min_interval.map(Duration::from_secs);
            let policy =
                ReportPolicy { report: report.parse().unwrap(), deadband, min_interval, slack: Duration::from_secs(1) };
            Self { state: ReportState::new(), policy }
        }

        fn at(&self, second: u64) -> Tick {
            Tick::at(Duration::from_secs(second))
        }

        fn up(&mut self, second: u64, value: f64, quality: Quality) -> bool {
            let now = self.at(second);
            self.state.is_due(&self.policy, Some(&Value::Float64(value)), quality, now)
        }

        fn again(&mut self, second: u64, value: f64) -> bool {
            let now = self.at(second);
            self.state.is_due_again(&self.policy, Some(&Value::Float64(value)), Quality::Good, now).is_some()
        }

        /// The second of the next deadline.
        fn deadline(&self) -> Option<u64> {
            self.state.deadline(&self.policy).map(|at| at.since(Tick::at(Duration::ZERO)).as_secs())
        }
    }

    /// Feeds `(second, value)` and returns the seconds at which a value went up.
    fn due(report: &str, deadband: f64, values: &[(u64, f64)]) -> Vec<u64> {
        let mut bench = Bench::new(report, deadband, None);
        let up = values.iter().filter(|(second, value)| bench.up(*second, *value, Quality::Good));
        up.map(|(second, _)| *second).collect()
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
        let often: Vec<_> = (0..20).map(|second| (second, 1.0)).collect();
        assert_eq!(due("every 5s", 0.0, &often), [0, 5, 10, 15]);
    }

    #[test]
    fn a_change_of_quality_goes_up_at_once() {
        for report in ["change", "every 1h", "change+every 1h"] {
            let mut bench = Bench::new(report, 5.0, None);
            assert!(bench.up(0, 1.0, Quality::Good));
            assert!(bench.up(1, 1.0, Quality::Bad(Reason::Timeout)), "{report}");
            assert!(!bench.up(2, 1.0, Quality::Bad(Reason::Timeout)), "{report}");
        }
    }

    #[test]
    fn a_held_change_goes_up_when_its_interval_ends_and_not_when_it_went_back() {
        let mut bench = Bench::new("change", 0.5, Some(5));
        assert!(bench.up(0, 1.0, Quality::Good));
        assert_eq!(bench.deadline(), None, "nothing is held");
        assert!(!bench.up(1, 9.0, Quality::Good) && !bench.up(4, 3.0, Quality::Good), "too soon");
        assert_eq!(bench.deadline(), Some(5));
        assert!(!bench.again(4, 3.0) && bench.again(5, 3.0), "what it is by then");
        assert!(!bench.up(6, 7.0, Quality::Good) && !bench.up(7, 3.2, Quality::Good), "it went back");
        assert_eq!(bench.deadline(), None);
        assert!(bench.up(8, 3.2, Quality::Uncertain(Reason::OutOfRange)), "a change of quality at once");
        assert!(!bench.up(14, 3.4, Quality::Uncertain(Reason::OutOfRange)), "within the deadband");
    }

    #[test]
    fn a_period_tells_what_is_known_when_nothing_comes_and_keeps_its_step() {
        let mut bench = Bench::new("every 10s", 0.0, None);
        assert!(bench.up(0, 1.0, Quality::Good));
        assert_eq!(bench.deadline(), Some(11), "a fresh value is waited for");
        assert!(!bench.again(10, 1.0) && bench.again(11, 1.0));
        assert_eq!(bench.deadline(), Some(21), "in step");
        assert!(bench.up(20, 1.0, Quality::Good), "a fresh one came in time");
        assert_eq!(bench.deadline(), Some(31));
    }

    #[test]
    fn events_go_up_whatever_the_policy_but_never() {
        let event = |bench: &mut Bench, second| {
            let now = bench.at(second);
            bench.state.take_event(&bench.policy, Some(&Value::Float64(1.0)), Quality::Good, now)
        };
        let mut bench = Bench::new("change", 5.0, Some(60));
        assert!(event(&mut bench, 0) && event(&mut bench, 0) && event(&mut bench, 1));
        assert!(!event(&mut Bench::new("never", 0.0, None), 0));
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
