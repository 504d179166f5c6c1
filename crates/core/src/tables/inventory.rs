use super::{LatestTable, PointTable};
use crate::description::Description;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The points of a running revision with the newest reading of each, and what people call the things around them.
#[derive(Debug, Clone)]
pub struct Inventory {
    /// The points.
    pub points: Arc<PointTable>,
    /// The newest reading of each.
    pub latest: Arc<LatestTable>,
    /// The names of the links.
    pub links: Arc<[String]>,
    /// The titles of devices, by their names.
    pub titles: Arc<BTreeMap<String, String>>,
}

impl Inventory {
    /// That of a description, whose points are numbered already.
    #[must_use]
    pub fn new(description: &Description, points: Arc<PointTable>, latest: Arc<LatestTable>) -> Self {
        let titled = description.devices.iter().map(|device| &device.settings);
        let titles = titled.map(|settings| (settings.name.to_string(), settings.title.clone())).collect();
        let links = description.links.iter().map(|link| link.settings.name.to_string()).collect();
        Self { points, latest, links, titles: Arc::new(titles) }
    }
}
