use interlex_core::TimeQuality;
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{Timestamp, civil};

/// How the clock of a device stands to UTC: logs are written in its local time.
#[derive(Debug, Clone, Default)]
pub(super) struct LogClock {
    /// Its zone, where that is described.
    pub(super) zone: Option<TimeZone>,
    /// Minutes from its local standard time to UTC: positive in the west.
    pub(super) utc_offset: i64,
    /// Whether summer time is in force, as it says.
    pub(super) is_summer: Option<bool>,
}

const MINUTE: i64 = 60_000;

fn civil(local_millis: i64) -> Option<civil::DateTime> {
    Some(TimeZone::UTC.to_datetime(Timestamp::from_millisecond(local_millis).ok()?))
}

impl LogClock {
    /// What its clock shows at a moment.
    pub(super) fn local(&self, utc_millis: i64) -> i64 {
        let zoned = self.zone.as_ref().and_then(|zone| {
            let offset = zone.to_offset(Timestamp::from_millisecond(utc_millis).ok()?);
            Some(utc_millis + i64::from(offset.seconds()) * 1000)
        });
        zoned.unwrap_or_else(|| utc_millis - (self.utc_offset - self.summer_minutes()) * MINUTE)
    }

    fn summer_minutes(&self) -> i64 {
        if self.is_summer == Some(true) { 60 } else { 0 }
    }

    /// The moment at which its clock showed something, behind a moment before, and what that is worth. The hour that comes twice in
    /// autumn is the second one when the first one is over.
    pub(super) fn utc(&self, local_millis: i64, after: Option<i64>) -> (i64, TimeQuality) {
        let zoned = self.zone.as_ref().and_then(|zone| {
            let ambiguous = zone.to_ambiguous_timestamp(civil(local_millis)?);
            let at = |seconds: i32| local_millis - i64::from(seconds) * 1000;
            Some(match ambiguous.offset() {
                AmbiguousOffset::Unambiguous { offset } => at(offset.seconds()),
                AmbiguousOffset::Gap { before, .. } => at(before.seconds()),
                AmbiguousOffset::Fold { before, after: second } => {
                    let first = at(before.seconds());
                    if after.is_some_and(|after| after > first) { at(second.seconds()) } else { first }
                }
            })
        });
        if let Some(zoned) = zoned {
            return (zoned, TimeQuality::Unsaid);
        }
        // A device that knows no summer time has none.
        let is_certain = self.is_summer.is_none() || self.is_summer == Some(false);
        let quality = if is_certain { TimeQuality::Unsaid } else { TimeQuality::Unsynchronized };
        (local_millis + (self.utc_offset - self.summer_minutes()) * MINUTE, quality)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn millis(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_millisecond()
    }

    #[test]
    fn local_times_are_moments_also_where_the_clock_is_set_back() {
        let berlin = LogClock { zone: TimeZone::get("Europe/Berlin").ok(), utc_offset: -60, is_summer: Some(false) };
        let utc = |local: &str, after: Option<&str>| berlin.utc(millis(local), after.map(millis));
        assert_eq!(utc("2026-07-01T12:00:00Z", None).0, millis("2026-07-01T10:00:00Z"));
        assert_eq!(utc("2026-11-29T12:00:00Z", None), (millis("2026-11-29T11:00:00Z"), TimeQuality::Unsaid));
        // The hour from two to three comes twice.
        assert_eq!(utc("2026-10-25T02:30:00Z", Some("2026-10-25T00:20:00Z")).0, millis("2026-10-25T00:30:00Z"));
        assert_eq!(utc("2026-10-25T02:10:00Z", Some("2026-10-25T00:50:00Z")).0, millis("2026-10-25T01:10:00Z"));
        assert_eq!(berlin.local(millis("2026-07-01T10:00:00Z")), millis("2026-07-01T12:00:00Z"));
        // In the west the offset is positive.
        let west = LogClock { zone: None, utc_offset: 300, is_summer: Some(false) };
        assert_eq!(
            west.utc(millis("2026-11-29T07:00:00Z"), None),
            (millis("2026-11-29T12:00:00Z"), TimeQuality::Unsaid)
        );
        let summer = LogClock { is_summer: Some(true), ..west };
        assert_eq!(
            summer.utc(millis("2026-07-01T08:00:00Z"), None),
            (millis("2026-07-01T12:00:00Z"), TimeQuality::Unsynchronized)
        );
        assert_eq!(summer.local(millis("2026-07-01T12:00:00Z")), millis("2026-07-01T08:00:00Z"));
    }
}
