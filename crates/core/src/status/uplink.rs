use super::Shared;
use crate::Timestamp;
use serde::Serialize;

/// What an uplink is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum UplinkState {
    /// Trying to connect for the first time.
    Connecting,
    /// Connected, births are out.
    Online,
    /// Connected, and waiting for the primary host; samples are kept.
    Waiting,
    /// Not connected; trying again at growing intervals, samples are kept.
    Offline,
}

/// An uplink, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct UplinkStatus {
    /// Its name.
    pub name: String,
    /// The word of its kind: sparkplug or json.
    pub kind: &'static str,
    /// The broker in use, or the one that is tried.
    pub url: String,
    /// Sparkplug group id and edge node id.
    pub node: String,
    /// What it is doing.
    pub state: UplinkState,
    /// Since when, in milliseconds since 1970 UTC.
    pub since: i64,
    /// What went wrong last.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970 UTC.
    pub last_error_at: Option<i64>,
    /// Since when messages, and what was delivered and lost, are counted, in milliseconds since 1970 UTC: restarts included.
    pub counted_since: i64,
    /// Messages published.
    pub messages: u64,
    /// Samples that the broker has proved to have read.
    pub samples_delivered: u64,
    /// Samples a second, over the last ten seconds.
    pub samples_per_second: f64,
    /// What waits to be sent or proved.
    pub buffer: BufferState,
    /// The bdSeq of the session, of a Sparkplug uplink.
    pub bd_seq: Option<u8>,
    /// Whether the primary host may not be back after a broken connection: what waits is held, what is sent does not count
    /// as delivered.
    pub host_in_doubt: bool,
    /// Until when the certificate that it shows to the broker is valid, in milliseconds since 1970 UTC.
    pub certificate_until: Option<i64>,
}

/// What waits for a broker.
#[derive(Debug, Clone, Default, PartialEq, Serialize, utoipa::ToSchema)]
pub struct BufferState {
    /// Samples kept, waiting to be sent or proved.
    pub waiting: u64,
    /// Samples of those waiting that are in the database: a crash does not cost them.
    pub durable: u64,
    /// How many bytes they take there.
    pub bytes: u64,
    /// Samples that the broker has read, and that the primary host may not have: they are sent again should it turn out to
    /// have been away.
    pub unsettled: u64,
    /// Samples lost since it is counted: too many, too old, or of points that are gone.
    pub lost: u64,
    /// Whether there is no more room.
    pub is_full: bool,
    /// Samples that came since the uplink runs.
    pub came: u64,
    /// When the oldest sample that waits came, in milliseconds since 1970 UTC.
    pub oldest_at: Option<i64>,
    /// Why the database does not take or give the journal, while it does not.
    pub journal_error: Option<String>,
    /// Samples a second that come.
    pub in_per_second: f64,
    /// Samples a second that are proven to be with the broker.
    pub out_per_second: f64,
    /// In how many seconds there will be no more room, as things go; `null` when they go otherwise.
    pub seconds_to_full: Option<f64>,
    /// In how many seconds nothing will wait, as things go; `null` when they go otherwise.
    pub seconds_to_drained: Option<f64>,
}

/// A stretch of time from which samples are missing at the broker.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Gap {
    /// When the first of them came, in milliseconds since 1970 UTC.
    pub from: i64,
    /// When the last of them came.
    pub to: i64,
    /// How many.
    pub count: u64,
    /// Why.
    pub why: &'static str,
}

/// What went in and out in one stretch of ten seconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct PastMoment {
    /// The end of the stretch, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Samples that came.
    pub came: u64,
    /// Samples proven to be with the broker.
    pub delivered: u64,
    /// Samples lost.
    pub lost: u64,
    /// Samples that waited at its end.
    pub waiting: u64,
    /// Whether the uplink was online at its end.
    pub online: bool,
}

/// The buffer of an uplink in full.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct BufferView {
    /// How things are.
    pub state: BufferState,
    /// Where samples are missing, oldest first.
    pub gaps: Vec<Gap>,
    /// The last six hours, oldest first.
    pub past: Vec<PastMoment>,
}

impl Shared<UplinkStatus> {
    /// The uplink is in another state from now on.
    pub fn enter(&self, state: UplinkState, now: Timestamp) {
        let now = now.as_millis();
        self.update(|status, _| {
            if status.state != state {
                (status.state, status.since) = (state, now);
            }
        });
    }

    /// The uplink is offline, and why. Tells whether that is news.
    pub fn lost(&self, error: &str, now: Timestamp) -> bool {
        let (now, mut is_news) = (now.as_millis(), false);
        self.update(|status, _| {
            is_news = status.state != UplinkState::Offline;
            if is_news {
                (status.state, status.since) = (UplinkState::Offline, now);
            }
            (status.last_error, status.last_error_at) = (Some(error.to_owned()), Some(now));
            status.host_in_doubt = false;
        });
        is_news
    }

    /// So many samples are proven to be with the broker.
    pub fn delivered(&self, proven: usize, now: Timestamp) {
        let proven = u32::try_from(proven).unwrap_or(u32::MAX);
        self.update(|status, meter| {
            status.samples_delivered += u64::from(proven);
            meter.add(now, proven);
        });
    }
}
