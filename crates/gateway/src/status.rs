use crate::clock::wall_clock;
use crate::meter::RateMeter;
use interlex_core::Timestamp;
use interlex_core::description::LinkProtocol;
use parking_lot::Mutex;
use serde::Serialize;

/// What a link is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum LinkState {
    /// Trying to connect for the first time.
    Connecting,
    /// Connected.
    Up,
    /// Not connected; trying again at growing intervals.
    Down,
}

/// What a device is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DeviceState {
    /// Not asked yet since the link came up.
    Waiting,
    /// Answers.
    Up,
    /// Does not answer, though its link is up.
    Silent,
    /// Cannot be asked, since its link is down.
    Unreachable,
}

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

/// A link, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct LinkStatus {
    /// Its name.
    pub name: String,
    /// The word of its protocol.
    pub protocol: &'static str,
    /// Where it leads.
    pub target: String,
    /// What it is doing.
    pub state: LinkState,
    /// Since when, in milliseconds since 1970 UTC.
    pub since: i64,
    /// What went wrong last.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970 UTC.
    pub last_error_at: Option<i64>,
    /// Requests sent.
    pub requests: u64,
    /// Answers with data.
    pub answers: u64,
    /// Requests without an answer in time.
    pub timeouts: u64,
    /// Answers that refused.
    pub exceptions: u64,
    /// Requests a second, over the last ten seconds.
    pub requests_per_second: f64,
    /// By how much the latest poll missed its time, in milliseconds.
    pub lateness_ms: u64,
    /// Its devices.
    pub devices: Vec<DeviceStatus>,
}

/// A device, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct DeviceStatus {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// What it is doing.
    pub state: DeviceState,
    /// Since when, in milliseconds since 1970 UTC.
    pub since: i64,
    /// How many points it has.
    pub points: usize,
    /// How many requests read them now.
    pub requests: usize,
    /// What went wrong last.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970 UTC.
    pub last_error_at: Option<i64>,
}

/// One request that a device is sent again and again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct RequestView {
    /// The device.
    pub device: String,
    /// What it reads, in words: holding registers.
    pub table: &'static str,
    /// The first address.
    pub first: u16,
    /// The last address.
    pub last: u16,
    /// How often, in milliseconds.
    pub period_ms: u64,
    /// The points that it reads.
    pub points: Vec<String>,
    /// Whether it is what was planned, and not a part of a request that had to be cut.
    pub as_planned: bool,
    /// Why it gives no value; it is asked seldom then.
    pub bad: Option<String>,
    /// When the planned request is tried whole again, in milliseconds from now.
    pub whole_again_in_ms: Option<u64>,
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
    /// Samples lost, as far as gaps are remembered: too many, too old, or of points that are gone.
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

/// A gateway, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct GatewayStatus {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// The number of the running revision.
    pub revision: u32,
    /// When that revision was activated, in milliseconds since 1970 UTC.
    pub activated_at: i64,
    /// Since when it runs, in milliseconds since 1970 UTC.
    pub since: i64,
    /// How many points it has.
    pub points: usize,
    /// How many of them are good right now.
    pub points_good: usize,
    /// Its links with their devices.
    pub links: Vec<LinkStatus>,
    /// Its uplinks.
    pub uplinks: Vec<UplinkStatus>,
}

impl DeviceStatus {
    /// Before it was asked anything.
    pub(crate) fn new(name: &str, title: &str, points: usize, requests: usize) -> Self {
        Self {
            name: name.to_owned(),
            title: title.to_owned(),
            state: DeviceState::Waiting,
            since: wall_clock().as_millis(),
            points,
            requests,
            last_error: None,
            last_error_at: None,
        }
    }
}

impl LinkStatus {
    /// Before it ran.
    pub(crate) fn new(name: &str, protocol: &LinkProtocol, devices: Vec<DeviceStatus>) -> Self {
        Self {
            name: name.to_owned(),
            protocol: protocol.word(),
            target: protocol.target(),
            state: LinkState::Connecting,
            since: wall_clock().as_millis(),
            last_error: None,
            last_error_at: None,
            requests: 0,
            answers: 0,
            timeouts: 0,
            exceptions: 0,
            requests_per_second: 0.0,
            lateness_ms: 0,
            devices,
        }
    }
}

/// A status with what is needed to compute its rate, behind a lock that is held for moments only.
#[derive(Debug)]
pub(crate) struct Shared<T> {
    inner: Mutex<(T, RateMeter)>,
}

impl Shared<UplinkStatus> {
    /// The uplink is in another state from now on.
    pub(crate) fn enter(&self, state: UplinkState) {
        let now = wall_clock().as_millis();
        self.update(|status, _| {
            if status.state != state {
                (status.state, status.since) = (state, now);
            }
        });
    }

    /// The uplink is offline, and why; said in the log when that is news.
    pub(crate) fn lost(&self, error: &str) {
        let now = wall_clock().as_millis();
        self.update(|status, _| {
            if status.state != UplinkState::Offline {
                (status.state, status.since) = (UplinkState::Offline, now);
                tracing::warn!(uplink = status.name, error, "uplink offline");
            }
            (status.last_error, status.last_error_at) = (Some(error.to_owned()), Some(now));
            status.host_in_doubt = false;
        });
    }

    /// So many samples are proven to be with the broker.
    pub(crate) fn delivered(&self, proven: usize) {
        let proven = u32::try_from(proven).unwrap_or(u32::MAX);
        let now = wall_clock();
        self.update(|status, meter| {
            status.samples_delivered += u64::from(proven);
            meter.add(now, proven);
        });
    }
}

impl<T: Clone> Shared<T> {
    pub(crate) fn new(status: T) -> Self {
        Self { inner: Mutex::new((status, RateMeter::default())) }
    }

    pub(crate) fn update(&self, change: impl FnOnce(&mut T, &mut RateMeter)) {
        let mut inner = self.inner.lock();
        let (status, meter) = &mut *inner;
        change(status, meter);
    }

    pub(crate) fn read(&self, now: Timestamp) -> (T, f64) {
        let inner = self.inner.lock();
        (inner.0.clone(), inner.1.per_second(now))
    }
}
