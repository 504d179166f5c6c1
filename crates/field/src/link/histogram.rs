use serde::Serialize;
use std::time::Duration;

/// How many answers took how long.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Histogram {
    counts: [u64; BOUNDS_MS.len() + 1],
    max: Duration,
}

/// Each about twice the one before: fine enough to tell a slow device from a fast one.
const BOUNDS_MS: [u32; 13] = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000];

/// One bar of a histogram.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Bar {
    /// It counts what took this long at the most, in milliseconds; none for the last one.
    pub up_to_ms: Option<u32>,
    /// How many.
    pub count: u64,
}

/// A histogram with what people ask of it.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct HistogramView {
    /// Its bars, from the shortest time on.
    pub bars: Vec<Bar>,
    /// Half took this long at the most, in milliseconds, to the bound of its bar.
    pub p50_ms: Option<f64>,
    /// 99 of 100 took this long at the most, in milliseconds, to the bound of its bar.
    pub p99_ms: Option<f64>,
    /// The longest, in milliseconds.
    pub max_ms: f64,
}

impl Histogram {
    pub(crate) fn add(&mut self, took: Duration) {
        let at = BOUNDS_MS.iter().position(|bound| took <= Duration::from_millis((*bound).into()));
        if let Some(count) = self.counts.get_mut(at.unwrap_or(BOUNDS_MS.len())) {
            *count += 1;
        }
        self.max = self.max.max(took);
    }

    pub(super) fn merge(&mut self, other: &Self) {
        self.counts.iter_mut().zip(other.counts).for_each(|(count, more)| *count += more);
        self.max = self.max.max(other.max);
    }

    pub(crate) fn view(&self) -> HistogramView {
        let bounds = BOUNDS_MS.into_iter().map(Some).chain([None]);
        let bars: Vec<_> = bounds.zip(self.counts).map(|(up_to_ms, count)| Bar { up_to_ms, count }).collect();
        let max_ms = milliseconds(self.max);
        let total: u64 = self.counts.iter().sum();
        let share = |percent: u64| {
            let mut seen = 0;
            let bar = bars.iter().find(|bar| {
                seen += bar.count;
                total > 0 && seen * 100 >= total * percent
            });
            bar.map(|bar| bar.up_to_ms.map_or(max_ms, f64::from).min(max_ms))
        };
        HistogramView { p50_ms: share(50), p99_ms: share(99), max_ms, bars }
    }
}

fn milliseconds(span: Duration) -> f64 {
    (span.as_secs_f64() * 1e5).round() / 100.0
}
