use super::address::ModbusTable;
use crate::description::{Device, Name, Span};
use crate::plan::{Block, PlanLimits, plan};
use std::collections::{BTreeMap, HashMap};

/// One request that a device is sent again and again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedRequest {
    /// How often.
    pub period: Span,
    /// Which table.
    pub table: ModbusTable,
    /// Which addresses; of each point, which device of the unit it is of, and its position in the list of that device.
    pub block: Block<(usize, usize)>,
}

/// The devices that are one Modbus unit each, by their places among `devices`: mostly one alone, and several where one controller
/// stands for several machines.
#[must_use]
pub fn units<'a>(devices: impl IntoIterator<Item = &'a Device>) -> Vec<(u8, Vec<usize>)> {
    let mut units: Vec<(u8, Vec<usize>)> = Vec::new();
    let mut places: HashMap<u8, usize> = HashMap::new();
    for (place, device) in devices.into_iter().enumerate() {
        let Some(settings) = device.protocol.modbus() else { continue };
        let at = *places.entry(settings.unit).or_insert(units.len());
        match units.get_mut(at) {
            Some((_, devices)) => devices.push(place),
            None => units.push((settings.unit, vec![place])),
        }
    }
    units
}

/// The fewest requests that read all points of the devices of one unit within its limits.
#[must_use]
pub fn planned(rates: &BTreeMap<Name, Span>, devices: &[&Device]) -> Vec<PlannedRequest> {
    // What is of the unit is the same for all of them.
    let Some(settings) = devices.first().and_then(|device| device.protocol.modbus()) else { return Vec::new() };
    let mut groups: BTreeMap<(Span, ModbusTable), Vec<_>> = BTreeMap::new();
    let points = devices.iter().enumerate();
    let points = points
        .flat_map(|(at, device)| (0..).zip(&*device.points).map(move |(position, point)| ((at, position), point)));
    for (which, point) in points {
        let Some((address, _)) = point.modbus() else { continue };
        // The checks let no point pass whose extent runs past the end, or whose rate is unknown.
        let known = address.extent(point.settings.data_type).zip(rates.get(&point.settings.rate));
        if let Some(((first, last), period)) = known {
            groups.entry((*period, address.table)).or_default().push((first, last, which));
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
