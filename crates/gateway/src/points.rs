use interlex_core::description::{Access, Address, Description, Point};
use interlex_core::{DataType, PointIndex, PointPlan, Shaping};
use std::sync::Arc;

/// What is fixed about a point as long as its revision runs.
#[derive(Debug, Clone)]
pub struct PointInfo {
    /// Its place in the gateway's tables.
    pub index: PointIndex,
    /// The place of its device in the description.
    pub device_index: usize,
    /// The name of its device.
    pub device: Arc<str>,
    /// Its name, unique in the device.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// Where it lives, in the canonical form.
    pub address: String,
    /// How the device represents it.
    pub data_type: DataType,
    /// Whether values are scaled, and so are doubles whatever the device sends.
    pub is_shaped: bool,
    /// Unit of the engineering value.
    pub unit: String,
    /// How many decimals its values have, where the scale says so.
    pub decimals: Option<u8>,
    /// Name of its sampling period.
    pub rate: String,
    /// When its value goes up, in the words of the description.
    pub report: String,
    /// Below this the quality is uncertain.
    pub low: Option<f64>,
    /// Above this the quality is uncertain.
    pub high: Option<f64>,
    /// Whether it can be commanded.
    pub is_writable: bool,
}

/// All points of a gateway: devices grouped by link, and points of a device one after the other, so that each link
/// owns one range of indices.
#[derive(Debug)]
pub struct PointTable {
    points: Vec<PointInfo>,
    /// Index of the first point of each device, in the order of the description.
    firsts: Vec<u32>,
}

impl PointTable {
    /// Numbers the points of a description.
    #[must_use]
    pub fn new(description: &Description) -> Self {
        let mut points = Vec::new();
        let mut firsts = vec![0; description.devices.len()];
        for link in &description.links {
            let devices = description.devices.iter().enumerate();
            for (device_index, device) in devices.filter(|(_, device)| device.settings.link == link.settings.name) {
                if let Some(first) = firsts.get_mut(device_index) {
                    *first = next_index(&points);
                }
                let name: Arc<str> = device.settings.name.as_str().into();
                for point in &device.points {
                    let index = PointIndex(next_index(&points));
                    points.push(info(index, device_index, Arc::clone(&name), point));
                }
            }
        }
        Self { points, firsts }
    }

    /// All points, by index.
    #[must_use]
    pub fn all(&self) -> &[PointInfo] {
        &self.points
    }

    /// One point.
    #[must_use]
    pub fn get(&self, index: PointIndex) -> Option<&PointInfo> {
        self.points.get(index.position())
    }

    /// Finds a point by the names of its device and itself.
    #[must_use]
    pub fn find(&self, device: &str, point: &str) -> Option<&PointInfo> {
        self.points.iter().find(|info| &*info.device == device && info.name == point)
    }

    /// Index of the first point of a device.
    #[must_use]
    pub(crate) fn first_of(&self, device_index: usize) -> u32 {
        self.firsts.get(device_index).copied().unwrap_or(0)
    }
}

/// Point lists have far fewer rows than `u32` can count; beyond it the last index is given again.
fn next_index(points: &[PointInfo]) -> u32 {
    u32::try_from(points.len()).unwrap_or(u32::MAX)
}

fn info(index: PointIndex, device_index: usize, device: Arc<str>, point: &Point) -> PointInfo {
    let settings = &point.settings;
    let Address::Modbus(address) = point.address;
    let is_bit = address.table.is_bits() || address.bits.is_some_and(|(low, high)| low == high);
    PointInfo {
        index,
        device_index,
        device,
        name: settings.name.to_string(),
        title: settings.title.clone(),
        address: point.address.to_string(),
        data_type: if is_bit { DataType::Bool } else { settings.data_type },
        is_shaped: !Shaping::linear(settings.scale, settings.offset).is_none(),
        unit: settings.unit.clone(),
        decimals: decimals(settings.data_type, settings.scale),
        rate: settings.rate.to_string(),
        report: settings.report.to_string(),
        low: settings.low,
        high: settings.high,
        is_writable: settings.access == Access::ReadWrite,
    }
}

/// A whole number at a scale of 0.01 has two decimals; of other scales and of floats nothing is known.
fn decimals(data_type: DataType, scale: f64) -> Option<u8> {
    if matches!(data_type, DataType::Float32 | DataType::Float64) || !data_type.is_numeric() {
        return None;
    }
    [1.0, 0.1, 0.01, 0.001, 0.0001]
        .into_iter()
        .zip(0..)
        .find(|(known, _)| *known == scale)
        .map(|(_, decimals)| decimals)
}

pub(crate) fn plan_of(point: &Point) -> PointPlan {
    let settings = &point.settings;
    PointPlan {
        shaping: Shaping::linear(settings.scale, settings.offset),
        low: settings.low,
        high: settings.high,
        report: settings.report,
        deadband: settings.deadband,
    }
}
