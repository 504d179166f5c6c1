use interlex_core::Timestamp;
use interlex_modbus::ClientStats;
use serde::Serialize;
use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

/// How many answers took how long.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Histogram {
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
    pub half_ms: Option<f64>,
    /// 99 of 100 took this long at the most, in milliseconds, to the bound of its bar.
    pub most_ms: Option<f64>,
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

    fn merge(&mut self, other: &Self) {
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
        HistogramView { half_ms: share(50), most_ms: share(99), max_ms, bars }
    }
}

fn milliseconds(span: Duration) -> f64 {
    (span.as_secs_f64() * 1e5).round() / 100.0
}

/// What was counted of one device, or of a whole link.
#[derive(Debug, Clone, Default)]
pub(crate) struct Counts {
    requests: u64,
    answers: u64,
    timeouts: u64,
    malformed: u64,
    garbled: u64,
    exceptions: BTreeMap<u8, u64>,
    answer_times: Histogram,
}

/// What became of one request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Counted {
    Answer,
    Exception(u8),
    Timeout,
    Garbled,
    Malformed,
}

impl Counts {
    fn add(&mut self, what: Counted, took: Duration) {
        self.requests += 1;
        match what {
            Counted::Answer => self.answers += 1,
            Counted::Exception(code) => *self.exceptions.entry(code).or_default() += 1,
            Counted::Timeout => self.timeouts += 1,
            Counted::Garbled => self.garbled += 1,
            Counted::Malformed => self.malformed += 1,
        }
        if !matches!(what, Counted::Timeout | Counted::Garbled) {
            self.answer_times.add(took);
        }
    }

    fn merge(&mut self, other: &Self) {
        self.requests += other.requests;
        self.answers += other.answers;
        self.timeouts += other.timeouts;
        self.malformed += other.malformed;
        self.garbled += other.garbled;
        for (code, count) in &other.exceptions {
            *self.exceptions.entry(*code).or_default() += count;
        }
        self.answer_times.merge(&other.answer_times);
    }

    fn view(&self) -> CountsView {
        CountsView {
            requests: self.requests,
            answers: self.answers,
            timeouts: self.timeouts,
            malformed: self.malformed,
            garbled: self.garbled,
            exceptions: self
                .exceptions
                .iter()
                .map(|(code, count)| ExceptionCount {
                    code: *code,
                    meaning: interlex_modbus::ExceptionCode(*code).to_string(),
                    count: *count,
                })
                .collect(),
            answer_times: self.answer_times.view(),
        }
    }
}

/// How often a device refused for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct ExceptionCount {
    /// The code.
    pub code: u8,
    /// What it means.
    pub meaning: String,
    /// How often.
    pub count: u64,
}

/// What was counted of a device or a link in a span of time.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct CountsView {
    /// Requests that something became of.
    pub requests: u64,
    /// Answers with data.
    pub answers: u64,
    /// Requests without an answer in time.
    pub timeouts: u64,
    /// Answers that broke the protocol.
    pub malformed: u64,
    /// Answers that came cut, or whose CRC or LRC was wrong.
    pub garbled: u64,
    /// Refusals, by their reason.
    pub exceptions: Vec<ExceptionCount>,
    /// How long answers took, refusals included.
    pub answer_times: HistogramView,
}

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

/// What was counted of one device.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct DeviceCounts {
    /// Its name.
    pub name: String,
    /// What was counted since the link runs, or since its counters were reset.
    #[serde(flatten)]
    pub counts: CountsView,
    /// What was counted in the last minutes.
    pub lately: CountsView,
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
    /// Answers of other units than the one that was asked.
    pub wrong_unit: u64,
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

/// How many minutes are shown beside all that was counted.
const LATELY_MINUTES: u64 = 5;

/// Counts, all together and by the minute.
#[derive(Debug, Clone, Default)]
struct Tally {
    all: Counts,
    /// The newest minutes in which something was counted, with their numbers.
    minutes: VecDeque<(u64, Counts)>,
}

impl Tally {
    fn add(&mut self, minute: u64, what: Counted, took: Duration) {
        self.all.add(what, took);
        match self.minutes.back_mut().filter(|(newest, _)| *newest == minute) {
            Some((_, counts)) => counts.add(what, took),
            None => {
                let mut counts = Counts::default();
                counts.add(what, took);
                self.minutes.push_back((minute, counts));
                self.minutes.retain(|(number, _)| number + LATELY_MINUTES > minute);
            }
        }
    }

    fn lately(&self, minute: u64) -> CountsView {
        let mut sum = Counts::default();
        let newest = self.minutes.iter().filter(|(number, _)| number + LATELY_MINUTES > minute);
        newest.for_each(|(_, counts)| sum.merge(counts));
        sum.view()
    }
}

/// What a link counts.
#[derive(Debug, Clone)]
pub(crate) struct Statistics {
    start: Instant,
    since: Timestamp,
    all: Tally,
    devices: Vec<(String, Tally)>,
    client: ClientStats,
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
        (start, since): (Instant, Timestamp),
    ) -> Self {
        Self {
            start,
            since,
            all: Tally::default(),
            devices: devices.map(|name| (name, Tally::default())).collect(),
            client: ClientStats::default(),
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
        *self = Self { up_since, ..Self::new(devices, self.line, now) };
    }

    fn minute(&self, now: Instant) -> u64 {
        now.saturating_duration_since(self.start).as_secs() / 60
    }

    pub(crate) fn add(&mut self, device: Option<usize>, what: Counted, took: Duration, now: Instant) {
        let minute = self.minute(now);
        self.all.add(minute, what, took);
        if let Some((_, tally)) = device.and_then(|at| self.devices.get_mut(at)) {
            tally.add(minute, what, took);
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

    /// What the client counted since the last call, on a connection of its own.
    pub(crate) fn traffic(&mut self, before: ClientStats, after: ClientStats) {
        let (sent, received) = (after.bytes_sent - before.bytes_sent, after.bytes_received - before.bytes_received);
        self.client.bytes_sent += sent;
        self.client.bytes_received += received;
        self.client.unmatched += after.unmatched - before.unmatched;
        self.client.late += after.late - before.late;
        self.client.wrong_unit += after.wrong_unit - before.wrong_unit;
        self.client.noise_bytes += after.noise_bytes - before.noise_bytes;
        if let Some((character, silence)) = self.line {
            let frames = after.requests - before.requests + after.answers - before.answers;
            let count = |number: u64| u32::try_from(number).unwrap_or(u32::MAX);
            self.busy += character * count(sent + received) + silence * count(frames);
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
            counts: self.all.all.view(),
            lately: self.all.lately(self.minute(now)),
            lately_minutes: LATELY_MINUTES,
            since: self.since.as_millis(),
            unmatched: self.client.unmatched,
            late: self.client.late,
            wrong_unit: self.client.wrong_unit,
            noise_bytes: self.client.noise_bytes,
            bytes_sent: self.client.bytes_sent,
            bytes_received: self.client.bytes_received,
            bus_load: self.line.and(up).map(|up| (self.busy.as_secs_f64() / up.as_secs_f64()).min(1.0)),
            lateness: self.lateness.view(),
            rates: self.rates.iter().map(rate).collect(),
            devices: self
                .devices
                .iter()
                .map(|(name, tally)| DeviceCounts {
                    name: name.clone(),
                    counts: tally.all.view(),
                    lately: tally.lately(self.minute(now)),
                })
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_histogram_tells_what_most_took() {
        let mut histogram = Histogram::default();
        (0..98).for_each(|_| histogram.add(Duration::from_millis(4)));
        histogram.add(Duration::from_millis(70));
        histogram.add(Duration::from_secs(60));
        let view = histogram.view();
        assert_eq!((view.half_ms, view.most_ms, view.max_ms), (Some(5.0), Some(100.0), 60_000.0));
        assert_eq!(view.bars.iter().map(|bar| bar.count).sum::<u64>(), 100);
        assert_eq!(view.bars.last(), Some(&Bar { up_to_ms: None, count: 1 }));
        assert_eq!(Histogram::default().view().half_ms, None);
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn a_line_is_as_busy_as_its_bytes_take_and_rates_are_what_was_achieved() {
        let (ms, start) = (Duration::from_millis(1), Instant::now());
        let mut statistics =
            Statistics::new(["meter".to_owned()].into_iter(), Some((ms, 4 * ms)), (start, Timestamp::from_millis(7)));
        statistics.up(start);
        let after = ClientStats { requests: 1, answers: 1, bytes_sent: 8, bytes_received: 9, ..ClientStats::default() };
        statistics.traffic(ClientStats::default(), after);
        statistics.add(Some(0), Counted::Exception(2), 20 * ms, start);
        (0..100).for_each(|_| statistics.polled(100 * ms, Some(150 * ms), 120 * ms));
        let view = statistics.view(start + 100 * ms);
        assert_eq!(view.bus_load, Some(0.25), "17 characters and two silences in 100 ms");
        assert_eq!((view.rates[0].asked_ms, view.rates[0].achieved_ms, view.rates[0].missed), (100, Some(150.0), 100));
        assert_eq!(view.devices[0].counts.exceptions[0].meaning, "exception 02, illegal data address");
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn the_last_minutes_are_told_beside_all_that_was_counted_and_both_begin_anew() {
        let (ms, start) = (Duration::from_millis(1), Instant::now());
        let minute = |number: u64| start + Duration::from_secs(60 * number + 1);
        let mut statistics =
            Statistics::new(["meter".to_owned()].into_iter(), None, (start, Timestamp::from_millis(7)));
        for number in 0..8 {
            statistics.add(Some(0), Counted::Timeout, 1000 * ms, minute(number));
            statistics.add(Some(0), Counted::Answer, 3 * ms, minute(number));
        }
        let view = statistics.view(minute(7));
        assert_eq!((view.counts.requests, view.lately.requests, view.lately.timeouts), (16, 10, 5));
        assert_eq!((view.devices[0].lately.answers, view.devices[0].lately.answer_times.half_ms), (5, Some(3.0)));
        assert_eq!(statistics.view(minute(30)).lately.requests, 0, "it has been quiet since");
        statistics.reset((minute(30), Timestamp::from_millis(9)));
        let view = statistics.view(minute(30));
        assert_eq!((view.since, view.counts.requests, view.devices[0].name.as_str()), (9, 0, "meter"));
    }
}
