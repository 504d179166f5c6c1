use interlex_core::description::PartFate;
use interlex_core::{LinkState, LinkStatus, UplinkState, UplinkStatus};
use serde::Serialize;

/// What an activation did, part by part.
#[derive(Debug, Clone, Default)]
pub(crate) struct Activation {
    pub(crate) revision: u32,
    pub(crate) at: i64,
    pub(crate) links: Vec<(String, PartFate)>,
    pub(crate) uplinks: Vec<(String, PartFate)>,
}

/// How far a link or uplink has come since it was activated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Progress {
    /// It runs, or has stopped as it should.
    Done,
    /// It is coming up.
    Waiting,
    /// It was tried and does not come up; it goes on trying.
    Failing,
}

/// What became of a link.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct LinkOutcome {
    /// Its name.
    pub name: String,
    /// What the activation did to it.
    pub fate: PartFate,
    /// How far it has come.
    pub progress: Progress,
    /// What it is doing, unless it has stopped.
    pub state: Option<LinkState>,
    /// What went wrong, when it does not come up.
    pub error: Option<String>,
}

/// What became of an uplink.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct UplinkOutcome {
    /// Its name.
    pub name: String,
    /// What the activation did to it.
    pub fate: PartFate,
    /// How far it has come.
    pub progress: Progress,
    /// What it is doing, unless it has stopped.
    pub state: Option<UplinkState>,
    /// What went wrong, when it does not come up.
    pub error: Option<String>,
}

/// What became of an activation so far. Ask again until nothing is waiting.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct Outcome {
    /// The revision that runs.
    pub revision: u32,
    /// When it was activated, in milliseconds since 1970 UTC.
    pub at: i64,
    /// The least that can be said of all parts together. What was left untouched does not count.
    pub progress: Progress,
    /// Link by link.
    pub links: Vec<LinkOutcome>,
    /// Uplink by uplink.
    pub uplinks: Vec<UplinkOutcome>,
}

impl LinkOutcome {
    pub(crate) fn new(name: &str, fate: PartFate, status: Option<&LinkStatus>) -> Self {
        let progress = match status.map(|status| status.state) {
            None | Some(LinkState::Up) => Progress::Done,
            Some(LinkState::Connecting) => Progress::Waiting,
            Some(LinkState::Down) => Progress::Failing,
        };
        let error = status.filter(|_| progress == Progress::Failing).and_then(|status| status.last_error.clone());
        Self { name: name.to_owned(), fate, progress, state: status.map(|status| status.state), error }
    }
}

impl UplinkOutcome {
    pub(crate) fn new(name: &str, fate: PartFate, status: Option<&UplinkStatus>) -> Self {
        let progress = match status.map(|status| status.state) {
            // Whether the primary host is there is not for an activation to say.
            None | Some(UplinkState::Online | UplinkState::Waiting) => Progress::Done,
            Some(UplinkState::Connecting) => Progress::Waiting,
            Some(UplinkState::Offline) => Progress::Failing,
        };
        let error = status.filter(|_| progress == Progress::Failing).and_then(|status| status.last_error.clone());
        Self { name: name.to_owned(), fate, progress, state: status.map(|status| status.state), error }
    }
}

impl Outcome {
    /// What has become of an activation, with how links and uplinks are now.
    pub(crate) fn new(activation: &Activation, (links, uplinks): (&[LinkStatus], &[UplinkStatus])) -> Self {
        let link = |(name, fate): &(String, PartFate)| {
            LinkOutcome::new(name, *fate, links.iter().find(|status| status.name == *name))
        };
        let uplink = |(name, fate): &(String, PartFate)| {
            UplinkOutcome::new(name, *fate, uplinks.iter().find(|status| status.name == *name))
        };
        let links: Vec<_> = activation.links.iter().map(link).collect();
        let uplinks: Vec<_> = activation.uplinks.iter().map(uplink).collect();
        let of_links = links.iter().map(|link| (link.fate, link.progress));
        let all = of_links.chain(uplinks.iter().map(|uplink| (uplink.fate, uplink.progress)));
        let touched = all.filter(|(fate, _)| *fate != PartFate::Untouched).map(|(_, progress)| progress);
        let progress = touched.max().unwrap_or(Progress::Done);
        Self { revision: activation.revision, at: activation.at, progress, links, uplinks }
    }
}
