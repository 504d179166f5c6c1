use super::address::ModbusTable;
use crate::description::{Address, Device, DeviceProtocol, Name, Span};
use crate::plan::{Block, PlanLimits, plan};
use std::collections::BTreeMap;

/// One request that a device is sent again and again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedRequest {
    /// How often.
    pub period: Span,
    /// Which table.
    pub table: ModbusTable,
    /// Which addresses, and the positions of the points in the list of the device.
    pub block: Block<usize>,
}

/// The fewest requests that read all points of a device within its limits.
#[must_use]
pub fn planned(rates: &BTreeMap<Name, Span>, device: &Device) -> Vec<PlannedRequest> {
    let DeviceProtocol::Modbus(settings) = &device.protocol;
    let mut groups: BTreeMap<(Span, ModbusTable), Vec<_>> = BTreeMap::new();
    for (position, point) in device.points.iter().enumerate() {
        let Address::Modbus(address) = point.address;
        // The checks let no point pass whose extent runs past the end, or whose rate is unknown.
        let known = address.extent(point.settings.data_type).zip(rates.get(&point.settings.rate));
        if let Some(((first, last), period)) = known {
            groups.entry((*period, address.table)).or_default().push((first, last, position));
        }
    }
    let requests = groups.into_iter().flat_map(|((period, table), items)| {
        let max_addresses = if table.is_bits() { settings.max_bits } else { settings.max_registers };
        let limits = PlanLimits { max_addresses, max_gap: settings.max_gap };
        let blocks = plan(items, limits, |first, last| settings.holes.touch(table, first, last));
        blocks.into_iter().map(move |block| PlannedRequest { period, table, block })
    });
    requests.collect()
}
