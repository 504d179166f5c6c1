use crate::running::Running;
use interlex_core::description::PointSettings;
use interlex_core::{Quality, Reason, ReportPolicy, ReportState, Tick, Value};
use serde::Serialize;
use std::time::Duration;

/// What a point's report settings would have sent of the values that are remembered.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct ReportPreview {
    /// The point.
    pub point: String,
    /// The seconds over which values are remembered.
    pub seconds: f64,
    /// Values read in that time.
    pub read: u64,
    /// Values that would have gone up.
    pub sent: u64,
    /// Values that would go up in an hour, if it goes on like this.
    pub sent_per_hour: f64,
    /// Bytes of them, as Sparkplug B metrics by alias.
    pub bytes_per_hour: f64,
}

/// A double by alias with its own time takes so many bytes, as the bench measures it.
const BYTES_PER_VALUE: f64 = 21.0;

/// Sends what is remembered of running points through report settings that need not run. Points of which nothing is
/// remembered, such as texts, are left out.
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "estimates")]
pub fn report_preview(running: &Running, device: &str, points: &[PointSettings]) -> Vec<ReportPreview> {
    let preview = |settings: &PointSettings| {
        let info = running.points().find(device, settings.name.as_str())?;
        let moments = running.recent().peek(info.index);
        let (first, last) = (moments.first()?, moments.last()?);
        let mut state = ReportState::new();
        let policy = ReportPolicy {
            report: settings.report,
            deadband: settings.deadband(),
            min_interval: settings.min_interval.map(Duration::from),
            slack: Duration::ZERO,
        };
        let sent = moments.iter().filter(|moment| {
            let value = moment.value.map(Value::Float64);
            let quality = match (value.is_some(), moment.good) {
                (_, true) => Quality::Good,
                (true, false) => Quality::Uncertain(Reason::OutOfRange),
                (false, false) => Quality::Bad(Reason::NeverRead),
            };
            let since = u64::try_from(moment.at.saturating_sub(first.at)).unwrap_or(0);
            state.is_due(&policy, value.as_ref(), quality, Tick::at(Duration::from_millis(since)))
        });
        let (read, sent) = (moments.len() as u64, sent.count() as u64);
        let seconds = (last.at - first.at) as f64 / 1000.0;
        // The first one always goes: it says nothing of what follows.
        let sent_per_hour = if seconds > 0.0 { sent.saturating_sub(1) as f64 / seconds * 3600.0 } else { 0.0 };
        let bytes_per_hour = sent_per_hour * BYTES_PER_VALUE;
        Some(ReportPreview { point: settings.name.to_string(), seconds, read, sent, sent_per_hour, bytes_per_hour })
    };
    points.iter().filter_map(preview).collect()
}
