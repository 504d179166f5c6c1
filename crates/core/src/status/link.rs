use crate::Timestamp;
use crate::description::LinkProtocol;
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

/// A link, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct LinkStatus {
    /// Its name.
    pub name: String,
    /// The word of its protocol.
    pub protocol: &'static str,
    /// Where it leads.
    pub target: String,
    /// Whether what it says is secured on its way: signed at least.
    pub secured: bool,
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
    pub refusals: u64,
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
    /// How many of them are good right now; the gateway knows.
    pub points_good: usize,
    /// How many requests read them now.
    pub requests: usize,
    /// What went wrong last.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970 UTC.
    pub last_error_at: Option<i64>,
}

impl DeviceStatus {
    /// Before it was asked anything.
    #[must_use]
    pub fn new(name: &str, title: &str, (points, requests): (usize, usize), now: Timestamp) -> Self {
        Self {
            name: name.to_owned(),
            title: title.to_owned(),
            state: DeviceState::Waiting,
            since: now.as_millis(),
            points,
            points_good: 0,
            requests,
            last_error: None,
            last_error_at: None,
        }
    }
}

impl LinkStatus {
    /// Before it ran.
    #[must_use]
    pub fn new(name: &str, protocol: &LinkProtocol, devices: Vec<DeviceStatus>, now: Timestamp) -> Self {
        Self {
            name: name.to_owned(),
            protocol: protocol.word(),
            target: protocol.target(),
            secured: protocol.is_secured(),
            state: LinkState::Connecting,
            since: now.as_millis(),
            last_error: None,
            last_error_at: None,
            requests: 0,
            answers: 0,
            timeouts: 0,
            refusals: 0,
            requests_per_second: 0.0,
            lateness_ms: 0,
            devices,
        }
    }
}
