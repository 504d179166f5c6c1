use super::counts::{Counted, CountsView, DeviceCounts, LATELY_MINUTES, Tally};
use super::histogram::{Histogram, HistogramView};
use super::traffic::Traffic;
use interlex_core::{Reason, Timestamp};
use serde::Serialize;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// How well a rate is kept.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct RateView {
    /// The period that was asked for, in milliseconds.
    pub asked_ms: u64,
    /// The period that the requests lately came to, in milliseconds.
    pub achieved_ms: Option<f64>,
    /// How many requests were done at this rate.
    pub polls: u64,
    /// How many of them came more than a whole period late.
    pub missed: u64,
}

/// What was counted of a link since it runs, or since its counters were reset.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct LinkStatistics {
    /// All its devices together.
    #[serde(flatten)]
    pub counts: CountsView,
    /// All its devices together, in the last minutes.
    pub lately: CountsView,
    /// How many minutes those are, with the one that has begun.
    pub lately_minutes: u64,
    /// Since when it is counted, in milliseconds since 1970 UTC.
    pub since: i64,
    /// Frames that answered nothing.
    pub unmatched: u64,
    /// Answers that came after their timeout.
    pub late: u64,
    /// Answers of other devices than the one that was asked.
    pub of_others: u64,
    /// Bytes of a line that belong to no frame.
    pub noise_bytes: u64,
    /// Bytes sent.
    pub bytes_sent: u64,
    /// Bytes received.
    pub bytes_received: u64,
    /// The share of its time that the serial line was busy since the link came up, 0 to 1; none where its speed is not
    /// known.
    pub bus_load: Option<f64>,
    /// How late requests were sent.
    pub lateness: HistogramView,
    /// How well each rate is kept.
    pub rates: Vec<RateView>,
    /// Its devices.
    pub devices: Vec<DeviceCounts>,
}

/// What a link counts.
#[derive(Debug, Clone)]
pub(crate) struct Statistics {
    start: Instant,
    since: Timestamp,
    all: Tally,
    devices: Vec<(String, Tally)>,
    traffic: Traffic,
    /// How a refusal is called.
    words: fn(Reason) -> String,
    lateness: Histogram,
    rates: BTreeMap<Duration, RateCount>,
    /// How long one character and the silence around a frame take on the line.
    line: Option<(Duration, Duration)>,
    busy: Duration,
    up_since: Option<Instant>,
}

#[derive(Debug, Clone, Default)]
struct RateCount {
    polls: u64,
    missed: u64,
    /// A mean of the newest intervals, in seconds.
    achieved: Option<f64>,
}

/// How much one interval moves the mean: it follows a change within about twenty polls.
const WEIGHT: f64 = 0.1;

impl Statistics {
    pub(crate) fn new(
        devices: impl Iterator<Item = String>,
        line: Option<(Duration, Duration)>,
        words: fn(Reason) -> String,
        (start, since): (Instant, Timestamp),
    ) -> Self {
        Self {
            start,
            since,
            all: Tally::default(),
            devices: devices.map(|name| (name, Tally::default())).collect(),
            traffic: Traffic::default(),
            words,
            lateness: Histogram::default(),
            rates: BTreeMap::new(),
            line,
            busy: Duration::ZERO,
            up_since: None,
        }
    }

    /// The link came up, with a client that counts from zero.
    pub(crate) fn up(&mut self, now: Instant) {
        self.up_since = Some(now);
        self.busy = Duration::ZERO;
    }

    /// Counts from nothing on again.
    pub(crate) fn reset(&mut self, now: (Instant, Timestamp)) {
        let devices = std::mem::take(&mut self.devices).into_iter().map(|(name, _)| name);
        let up_since = self.up_since.map(|_| now.0);
        *self = Self { up_since, ..Self::new(devices, self.line, self.words, now) };
    }

    /// Other devices from now on; those that stay keep their counts.
    pub(crate) fn change_devices(&mut self, names: Vec<String>) {
        let mut before = std::mem::take(&mut self.devices);
        let tally = |name: String| {
            let known = before.iter().position(|(known, _)| *known == name);
            known.map_or_else(|| (name, Tally::default()), |at| before.swap_remove(at))
        };
        self.devices = names.into_iter().map(tally).collect();
    }

    fn minute(&self, now: Instant) -> u64 {
        now.saturating_duration_since(self.start).as_secs() / 60
    }

    pub(crate) fn add(&mut self, devices: &[usize], what: Counted, took: Duration, now: Instant) {
        let minute = self.minute(now);
        self.all.add(minute, what, took);
        for device in devices {
            if let Some((_, tally)) = self.devices.get_mut(*device) {
                tally.add(minute, what, took);
            }
        }
    }

    /// Events of a device that came once more, and events without a time.
    pub(crate) fn add_events(&mut self, device: usize, repeated: u64, untimed: u64, now: Instant) {
        let minute = self.minute(now);
        self.all.add_events(minute, repeated, untimed);
        if let Some((_, tally)) = self.devices.get_mut(device) {
            tally.add_events(minute, repeated, untimed);
        }
    }

    pub(crate) fn sent(&mut self, lateness: Duration) {
        self.lateness.add(lateness);
    }

    /// One poll of a period is done, so long after the one before of the same request.
    pub(crate) fn polled(&mut self, period: Duration, interval: Option<Duration>, lateness: Duration) {
        let rate = self.rates.entry(period).or_default();
        rate.polls += 1;
        rate.missed += u64::from(lateness > period);
        if let Some(interval) = interval.map(|interval| interval.as_secs_f64()) {
            let mean = rate.achieved.get_or_insert(interval);
            *mean += (interval - *mean) * WEIGHT;
        }
    }

    /// What went over the link since the last call.
    pub(crate) fn traffic(&mut self, more: Traffic) {
        self.traffic.bytes_sent += more.bytes_sent;
        self.traffic.bytes_received += more.bytes_received;
        self.traffic.unmatched += more.unmatched;
        self.traffic.late += more.late;
        self.traffic.of_others += more.of_others;
        self.traffic.noise_bytes += more.noise_bytes;
        if let Some((character, silence)) = self.line {
            let count = |number: u64| u32::try_from(number).unwrap_or(u32::MAX);
            self.busy += character * count(more.bytes_sent + more.bytes_received);
            self.busy += silence * count(more.requests + more.answers);
        }
    }

    pub(crate) fn view(&self, now: Instant) -> LinkStatistics {
        let up = self.up_since.map(|since| now.saturating_duration_since(since)).filter(|up| !up.is_zero());
        let rate = |(period, rate): (&Duration, &RateCount)| RateView {
            asked_ms: u64::try_from(period.as_millis()).unwrap_or(u64::MAX),
            achieved_ms: rate.achieved.map(|seconds| (seconds * 1e4).round() / 10.0),
            polls: rate.polls,
            missed: rate.missed,
        };
        LinkStatistics {
            counts: self.all.all.view(self.words),
            lately: self.all.lately(self.minute(now), self.words),
            lately_minutes: LATELY_MINUTES,
            since: self.since.as_millis(),
            unmatched: self.traffic.unmatched,
            late: self.traffic.late,
            of_others: self.traffic.of_others,
            noise_bytes: self.traffic.noise_bytes,
            bytes_sent: self.traffic.bytes_sent,
            bytes_received: self.traffic.bytes_received,
            bus_load: self.line.and(up).map(|up| (self.busy.as_secs_f64() / up.as_secs_f64()).min(1.0)),
            lateness: self.lateness.view(),
            rates: self.rates.iter().map(rate).collect(),
            devices: self
                .devices
                .iter()
                .map(|(name, tally)| DeviceCounts {
                    name: name.clone(),
                    counts: tally.all.view(self.words),
                    lately: tally.lately(self.minute(now), self.words),
                })
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::Bar;

    fn words(reason: Reason) -> String {
        reason.to_string()
    }

    #[test]
    fn a_histogram_tells_what_most_took() {
        let mut histogram = Histogram::default();
        (0..98).for_each(|_| histogram.add(Duration::from_millis(4)));
        histogram.add(Duration::from_millis(70));
        histogram.add(Duration::from_secs(60));
        let view = histogram.view();
        assert_eq!((view.p50_ms, view.p99_ms, view.max_ms), (Some(5.0), Some(100.0), 60_000.0));
        assert_eq!(view.bars.iter().map(|bar| bar.count).sum::<u64>(), 100);
        assert_eq!(view.bars.last(), Some(&Bar { up_to_ms: None, count: 1 }));
        assert_eq!(Histogram::default().view().p50_ms, None);
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn a_line_is_as_busy_as_its_bytes_take_and_rates_are_what_was_achieved() {
        let (ms, start) = (Duration::from_millis(1), Instant::now());
        let mut statistics = Statistics::new(
            ["meter".to_owned()].into_iter(),
            Some((ms, 4 * ms)),
            words,
            (start, Timestamp::from_millis(7)),
        );
        statistics.up(start);
        let traffic = Traffic { requests: 1, answers: 1, bytes_sent: 8, bytes_received: 9, ..Traffic::default() };
        statistics.traffic(traffic);
        statistics.add(&[0], Counted::Refusal(Reason::Modbus(2)), 20 * ms, start);
        (0..100).for_each(|_| statistics.polled(100 * ms, Some(150 * ms), 120 * ms));
        let view = statistics.view(start + 100 * ms);
        assert_eq!(view.bus_load, Some(0.25), "17 characters and two silences in 100 ms");
        assert_eq!((view.rates[0].asked_ms, view.rates[0].achieved_ms, view.rates[0].missed), (100, Some(150.0), 100));
        assert_eq!(view.devices[0].counts.refusals[0].meaning, "device exception 02");
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn the_last_minutes_are_told_beside_all_that_was_counted_and_both_begin_anew() {
        let (ms, start) = (Duration::from_millis(1), Instant::now());
        let minute = |number: u64| start + Duration::from_secs(60 * number + 1);
        let mut statistics =
            Statistics::new(["meter".to_owned()].into_iter(), None, words, (start, Timestamp::from_millis(7)));
        for number in 0..8 {
            statistics.add(&[0], Counted::Timeout, 1000 * ms, minute(number));
            statistics.add(&[0], Counted::Answer, 3 * ms, minute(number));
        }
        let view = statistics.view(minute(7));
        assert_eq!((view.counts.requests, view.lately.requests, view.lately.timeouts), (16, 10, 5));
        assert_eq!((view.devices[0].lately.answers, view.devices[0].lately.answer_times.p50_ms), (5, Some(3.0)));
        assert_eq!(statistics.view(minute(30)).lately.requests, 0, "it has been quiet since");
        statistics.reset((minute(30), Timestamp::from_millis(9)));
        let view = statistics.view(minute(30));
        assert_eq!((view.since, view.counts.requests, view.devices[0].name.as_str()), (9, 0, "meter"));
    }
}
