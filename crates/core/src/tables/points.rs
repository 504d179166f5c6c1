use crate::description::{Access, Address, Description, Device, Name, Point, PointSettings};
use crate::{DataType, PointIndex, Semantics, Shaping, Value, value_from_words_as};
use parking_lot::RwLock;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

/// What is fixed about a point as long as its revision runs. There is one of each: 32 bytes.
#[derive(Debug, Clone)]
pub struct PointInfo {
    /// Its place in the gateway's tables; the same in every revision that has it.
    pub index: PointIndex,
    slot: u32,
    device: Arc<Name>,
    /// The point as described; shared with the description.
    point: Arc<Point>,
    /// What its device was found to say of it, where something of it is left to that.
    found: Option<Arc<RwLock<Found>>>,
}

const _: () = assert!(size_of::<PointInfo>() <= 32);

/// What a device was found to say of a point.
#[derive(Debug)]
struct Found {
    /// The type by which it represents it; what is described, where that says one.
    data_type: DataType,
    /// What of the rest is taken.
    semantics: Option<Arc<Semantics>>,
}

impl PointInfo {
    /// The number of its device; the same in every revision that has it.
    #[must_use]
    pub const fn device_slot(&self) -> usize {
        self.slot as usize
    }

    /// The name of its device.
    #[must_use]
    pub fn device(&self) -> &str {
        self.device.as_str()
    }

    /// Its name, unique in the device.
    #[must_use]
    pub fn name(&self) -> &str {
        self.point.settings.name.as_str()
    }

    /// As described, with what its device was found to say of it.
    #[must_use]
    pub fn point(&self) -> Cow<'_, Point> {
        match self.semantics() {
            Some(semantics) => Cow::Owned(semantics.fill(&self.point)),
            None => Cow::Borrowed(&self.point),
        }
    }

    fn semantics(&self) -> Option<Arc<Semantics>> {
        self.found.as_ref()?.read().semantics.clone()
    }

    /// Its row in the point list, as described.
    #[must_use]
    pub fn settings(&self) -> &PointSettings {
        &self.point.settings
    }

    /// How the device represents it; `auto` until the device has told.
    #[must_use]
    pub fn data_type(&self) -> DataType {
        self.found.as_ref().map_or_else(|| self.point.raw_type(), |found| found.read().data_type)
    }

    /// What its engineering value is: a double once it is scaled, text once it has words. `None` while that depends on a type
    /// that the device has not told yet.
    #[must_use]
    pub fn value_type(&self) -> Option<DataType> {
        let words = self.semantics().and_then(|semantics| semantics.words.clone()).map(Shaping::words);
        let shaping = words.as_ref().unwrap_or(&self.point.shaping);
        Some(shaping.output(self.data_type())).filter(|known| *known != DataType::Auto)
    }

    /// The device represents an `auto` point by this type from now on, for every table that has it. Gives the type before,
    /// where it was another one.
    pub fn set_found(&self, data_type: DataType) -> Option<DataType> {
        let before = std::mem::replace(&mut self.found.as_ref()?.write().data_type, data_type);
        (before != data_type).then_some(before)
    }

    /// The device says this of it from now on, for every table that has it. Tells whether it said something else before.
    pub fn set_semantics(&self, told: Semantics) -> bool {
        let (told, Some(found)) = (self.point.auto().of(told), &self.found) else { return false };
        let mut found = found.write();
        let is_new = found.semantics.as_deref().is_none_or(|known| *known != told);
        found.semantics = Some(Arc::new(told));
        is_new
    }

    /// The device was last known to represent an `auto` point such that its values are of this type. What the device itself has
    /// told counts more.
    pub fn remember(&self, value_type: DataType) {
        if let Some(found) = &self.found
            && self.point.shaping.is_none()
        {
            let mut found = found.write();
            if found.data_type == DataType::Auto {
                found.data_type = value_type;
            }
        }
    }

    /// Where it lives in its device.
    #[must_use]
    pub fn address(&self) -> &Address {
        &self.point.address
    }

    /// The value that words mean for it, as a person writes them.
    #[must_use]
    pub fn value_from_words(&self, words: &str) -> Value {
        value_from_words_as(self.data_type(), words)
    }

    /// How many decimals its values have, where the scale says so.
    #[must_use]
    pub fn decimals(&self) -> Option<u8> {
        decimals(self.settings())
    }

    /// Whether it can be written at all.
    #[must_use]
    pub fn is_writable(&self) -> bool {
        self.point.settings.access != Access::Read
    }

    /// Whether hosts may command it, where an uplink takes commands.
    #[must_use]
    pub fn takes_commands(&self) -> bool {
        self.point.settings.access == Access::ReadWrite
    }
}

/// All points of a running revision.
///
/// A point keeps its index, and a device its slot, from one revision to the next as long as they keep their names:
/// samples under way, values already read and links that go on untouched stay right. Indices of points that are
/// gone are not given again.
#[derive(Debug, Default)]
pub struct PointTable {
    points: Vec<PointInfo>,
    /// By index: the place in `points`, or [`GONE`].
    places: Vec<u32>,
    /// By slot: the name of the device and its points in `points`.
    devices: Vec<Option<DevicePoints>>,
    slots: HashMap<Name, usize>,
}

/// The place of a point that this revision has no more.
const GONE: u32 = u32::MAX;

#[derive(Debug, Clone)]
struct DevicePoints {
    name: Arc<Name>,
    first: usize,
    count: usize,
    /// Their places among each other, in the order of their names.
    by_name: Box<[u32]>,
}

impl PointTable {
    /// Numbers the points of a description, after the numbers that `before` has given.
    #[must_use]
    pub fn new(description: &Description, before: &Self) -> Self {
        let count = description.devices.iter().map(|device| device.points.len()).sum();
        let mut places = Vec::with_capacity(before.places.len() + count);
        places.resize(before.places.len(), GONE);
        let mut table = Self {
            points: Vec::with_capacity(count),
            places,
            devices: vec![None; before.devices.len()],
            slots: HashMap::new(),
        };
        // Grouped by link, so that the points of a link stand close together.
        for link in &description.links {
            for device in description.behind(link.settings.name.as_str()) {
                table.add(device, before);
            }
        }
        table.places.shrink_to_fit();
        table
    }

    fn add(&mut self, device: &Device, before: &Self) {
        let name = Arc::new(device.settings.name.clone());
        let slot = before.slots.get(&*name).copied().unwrap_or_else(|| {
            self.devices.push(None);
            self.devices.len() - 1
        });
        let (first, count) = (self.points.len(), device.points.len());
        if let Some(known) = self.devices.get_mut(slot) {
            *known = Some(DevicePoints { name: Arc::clone(&name), first, count, by_name: by_name(device) });
        }
        self.slots.insert(Name::clone(&name), slot);
        for point in device.points.iter() {
            let known = before.find(name.as_str(), point.settings.name.as_str());
            let index = known.map(|known| known.index).unwrap_or_else(|| {
                self.places.push(GONE);
                PointIndex(count_u32(self.places.len() - 1))
            });
            let found = known.filter(|known| !is_redefined(&known.point, point)).and_then(|known| known.found.clone());
            if let Some(place) = self.places.get_mut(index.position()) {
                *place = count_u32(self.points.len());
            }
            self.points.push(PointInfo {
                index,
                slot: count_u32(slot),
                device: Arc::clone(&name),
                found: found.or_else(|| not_found_yet(point)),
                point: Arc::clone(point),
            });
        }
    }

    /// All points, grouped by link and device, in the order of the description.
    #[must_use]
    pub fn all(&self) -> &[PointInfo] {
        &self.points
    }

    /// How many indices have been given so far.
    #[must_use]
    pub const fn indices(&self) -> usize {
        self.places.len()
    }

    /// Where it stands among [all](Self::all).
    #[must_use]
    pub fn place(&self, index: PointIndex) -> Option<usize> {
        self.places.get(index.position()).filter(|place| **place != GONE).map(|place| *place as usize)
    }

    /// One point; `None` when this revision has it no more.
    #[must_use]
    pub fn get(&self, index: PointIndex) -> Option<&PointInfo> {
        self.points.get(self.place(index)?)
    }

    /// Finds a point by the names of its device and itself.
    #[must_use]
    pub fn find(&self, device: &str, point: &str) -> Option<&PointInfo> {
        let slot = self.slot(device)?;
        let (points, order) = (self.of_slot(slot), &self.devices.get(slot)?.as_ref()?.by_name);
        let info = |place: u32| points.get(PointIndex(place).position());
        let at = order.binary_search_by(|place| info(*place).map(PointInfo::name).cmp(&Some(point))).ok()?;
        info(*order.get(at)?)
    }

    /// The slot of a device.
    pub fn slot(&self, device: &str) -> Option<usize> {
        self.slots.get(device).copied()
    }

    /// The points of the device in a slot.
    pub fn of_slot(&self, slot: usize) -> &[PointInfo] {
        let device = self.devices.get(slot).and_then(Option::as_ref);
        device.and_then(|device| self.points.get(device.first..device.first + device.count)).unwrap_or_default()
    }

    /// How many slots have been given so far.
    pub const fn slots(&self) -> usize {
        self.devices.len()
    }

    /// The name of the device in a slot; `None` where there is none any more.
    pub fn device(&self, slot: usize) -> Option<&str> {
        self.devices.get(slot)?.as_ref().map(|device| device.name.as_str())
    }

    /// Whether the device in a slot is known to be as it was, with all its points: descriptions that grew out of each other share them.
    pub fn is_same(&self, before: &Self, slot: usize) -> bool {
        let (now, then) = (self.of_slot(slot), before.of_slot(slot));
        let is_same =
            |(now, then): (&PointInfo, &PointInfo)| now.index == then.index && Arc::ptr_eq(&now.point, &then.point);
        self.device(slot) == before.device(slot) && now.len() == then.len() && now.iter().zip(then).all(is_same)
    }

    /// Points that mean something else than they did before: what was read of them is of no use.
    pub fn redefined<'a>(&'a self, before: &'a Self) -> impl Iterator<Item = PointIndex> + 'a {
        let differs =
            |info: &&PointInfo| before.get(info.index).is_some_and(|known| is_redefined(&known.point, &info.point));
        self.points.iter().filter(differs).map(|info| info.index)
    }
}

/// Point lists have far fewer rows than `u32` can count.
fn count_u32(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

/// The places of the points of a device in the order of their names.
fn by_name(device: &Device) -> Box<[u32]> {
    let name = |place: u32| device.points.get(PointIndex(place).position()).map(|point| point.settings.name.as_str());
    let mut places: Box<[u32]> = (0..count_u32(device.points.len())).collect();
    places.sort_unstable_by_key(|place| name(*place));
    places
}

fn is_redefined(before: &Point, now: &Point) -> bool {
    before.address != now.address
        || (before.settings.data_type, &before.protocol) != (now.settings.data_type, &now.protocol)
        || before.shaping != now.shaping
}

/// Where that of a point is kept which only its device can tell.
fn not_found_yet(point: &Point) -> Option<Arc<RwLock<Found>>> {
    let data_type = point.raw_type();
    let is_left = data_type == DataType::Auto || !point.auto().is_empty();
    is_left.then(|| Arc::new(RwLock::new(Found { data_type, semantics: None })))
}

/// A whole number at a scale of 0.01 has two decimals; of other scales and of floats nothing is known.
fn decimals(settings: &PointSettings) -> Option<u8> {
    let (data_type, scale) = (settings.data_type, settings.scale);
    // What the device tells may be anything.
    let is_whole = data_type.is_numeric() && !data_type.is_float() && data_type != DataType::Auto;
    if !is_whole || settings.span.is_some() || settings.enumeration.is_some() {
        return None;
    }
    [1.0, 0.1, 0.01, 0.001, 0.0001]
        .into_iter()
        .zip(0..)
        .find(|(known, _)| *known == scale)
        .map(|(_, decimals)| decimals)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::{Files, read};

    fn table(devices: &[(&str, &[&str])], before: &PointTable) -> PointTable {
        let mut main =
            "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n"
                .to_owned();
        let mut files = Files::new();
        for (unit, (device, points)) in devices.iter().enumerate() {
            main.push_str(&format!("[[device]]\nname = \"{device}\"\nlink = \"l\"\nunit = {unit}\n"));
            let rows: String = points.iter().map(|row| format!("{row},uint16,r\n")).collect();
            files.insert(format!("points/{device}.csv"), format!("name,address,type,rate\n{rows}"));
        }
        files.insert("gateway.toml".to_owned(), main);
        PointTable::new(&read(&files).unwrap(), before)
    }

    #[test]
    fn points_and_devices_keep_their_numbers_over_revisions() {
        let one = table(&[("a", &["x,input:0", "y,input:1"]), ("b", &["z,input:0"])], &PointTable::default());
        let two = table(&[("c", &["w,input:0"]), ("b", &["z,input:5", "y,input:1"])], &one);
        assert!(one.is_same(&one, 1) && !two.is_same(&one, 1) && !two.is_same(&one, 0), "changed, and gone");
        let index = |table: &PointTable, device, point| table.find(device, point).map(|info| info.index.0);
        assert_eq!((index(&one, "b", "z"), index(&two, "b", "z")), (Some(2), Some(2)));
        assert_eq!((index(&two, "c", "w"), index(&two, "b", "y")), (Some(3), Some(4)), "new numbers, none given twice");
        assert_eq!((one.slot("b"), two.slot("b"), two.slot("c")), (Some(1), Some(1), Some(2)));
        assert!(two.get(PointIndex(0)).is_none() && two.find("a", "x").is_none() && two.of_slot(0).is_empty());
        assert_eq!(two.redefined(&one).collect::<Vec<_>>(), [PointIndex(2)], "its address is another one");
        let three = table(&[("a", &["x,input:0"])], &two);
        assert_eq!(index(&three, "a", "x"), Some(5), "a number that was free is not given again");
    }
}
