use super::poll::{ModbusPoll, Plans};
use crate::link::{LinkPlan, PlannedDevice};
use interlex_core::description::units;
use std::sync::Arc;

/// A unit of the line: a device, or several that share it.
#[derive(Debug, Clone)]
pub(super) struct LineUnit {
    pub(super) names: Vec<String>,
    /// Their places on the link.
    pub(super) places: Arc<[usize]>,
    pub(super) unit: u8,
    pub(super) retries: u8,
    pub(super) polls: Vec<Arc<ModbusPoll>>,
}

impl LineUnit {
    fn new(plan: &LinkPlan, unit: u8, places: Vec<usize>, plans: &mut Plans) -> Self {
        let devices: Vec<&PlannedDevice> = places.iter().filter_map(|place| plan.devices.get(*place)).collect();
        let retries = devices.iter().filter_map(|planned| Some(planned.device.protocol.modbus()?.retries));
        Self {
            names: devices.iter().map(|planned| planned.device.settings.name.to_string()).collect(),
            unit,
            retries: retries.max().unwrap_or_default(),
            polls: plans.polls(&plan.rates, &devices),
            places: places.into(),
        }
    }

    /// Whether another description of it asks for the same in the same way.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        (&self.names, self.unit, self.retries) == (&other.names, other.unit, other.retries) && self.polls == other.polls
    }
}

/// The units behind a link.
pub(super) fn units_of(plan: &LinkPlan) -> Vec<LineUnit> {
    let units = units(plan.devices.iter().map(|planned| &planned.device)).into_iter();
    let mut plans = Plans::default();
    units.map(|(unit, places)| LineUnit::new(plan, unit, places, &mut plans)).collect()
}

/// The names of the devices that each unit is.
pub(super) fn named(units: &[LineUnit]) -> Vec<(u8, Vec<String>)> {
    units.iter().map(|unit| (unit.unit, unit.names.clone())).collect()
}
