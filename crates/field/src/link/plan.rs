use interlex_core::description::{Description, Device, Link, Name, Span};
use interlex_core::{PointIndex, PointTable};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A link as it is to be driven.
#[derive(Debug, Clone)]
pub(crate) struct LinkPlan {
    pub(crate) link: Link,
    pub(crate) devices: Vec<PlannedDevice>,
    pub(crate) rates: BTreeMap<Name, Span>,
    /// How many links there are in all.
    pub(crate) links: usize,
}

/// A device of the link.
#[derive(Debug, Clone)]
pub(crate) struct PlannedDevice {
    pub(crate) device: Device,
    /// The number that listeners know it by.
    pub(crate) slot: usize,
    /// The indices of its points, in their order.
    pub(crate) points: Arc<[PointIndex]>,
}

impl LinkPlan {
    /// A link with everything behind it.
    pub(crate) fn new(description: &Description, link: &Link, points: &PointTable) -> Self {
        let device = |device: &Device| {
            let slot = points.slot(device.settings.name.as_str()).unwrap_or_default();
            let points = points.of_slot(slot).iter().map(|info| info.index).collect();
            PlannedDevice { device: device.clone(), slot, points }
        };
        let devices = description.behind(link.settings.name.as_str()).map(device).collect();
        let (rates, links) = (description.rates.clone(), description.links.len());
        Self { link: link.clone(), devices, rates, links }
    }

    /// A link for something that is done once: nothing is polled.
    pub(crate) fn alone(link: &Link) -> Self {
        Self { link: link.clone(), devices: Vec::new(), rates: BTreeMap::new(), links: 1 }
    }
}
