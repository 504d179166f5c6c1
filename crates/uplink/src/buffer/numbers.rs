use foldhash::HashMap;
use foldhash::fast::FixedState;
use hashbrown::HashTable;
use interlex_busy::aside;
use interlex_core::{DataType, PointIndex, PointInfo, PointTable};
use interlex_store::{JournalPoint, Store, StoreError};
use std::hash::BuildHasher;

/// The numbers by which journal blocks name points: rows of the database that are only ever added.
///
/// There is one of each point that there ever was, and of each type that it had: twelve bytes, and the names in one text.
#[derive(Debug, Clone, Default)]
pub(crate) struct PointNumbers {
    /// In the order of the numbers.
    rows: Vec<Row>,
    /// Where the numbers of rows go on after a gap: the number, and its place. Those behind it follow one after the other.
    runs: Vec<(u64, u32)>,
    /// The places of rows whose type is known, by their device and name: looked up for every sample, without a name being made.
    by_name: HashTable<u32>,
    names: String,
    types: Vec<Option<DataType>>,
    devices: Vec<Box<str>>,
    by_device: HashMap<Box<str>, u32>,
}

#[derive(Debug, Clone, Copy)]
struct Row {
    device: u32,
    /// Where its name begins among the names, and its length.
    name: u32,
    length: u16,
    /// The place of the type of its values among the types; none stands there for one of a later version.
    data_type: u16,
}

impl Row {
    fn name<'a>(&self, names: &'a str) -> &'a str {
        let from = self.name as usize;
        names.get(from..from + usize::from(self.length)).unwrap_or_default()
    }
}

impl PointNumbers {
    /// The number of a point with the type that its values have.
    pub(super) fn of(&self, info: &PointInfo) -> Option<u64> {
        let (value_type, device) = (info.value_type()?, *self.by_device.get(info.device())?);
        let row = self.named(device, info.name()).find(|(_, row)| self.data_type(row) == Some(value_type));
        row.and_then(|(place, _)| self.number(place))
    }

    /// The number of the row at a place.
    fn number(&self, place: u32) -> Option<u64> {
        let run = self.runs.partition_point(|(_, first)| *first <= place);
        let (number, first) = self.runs.get(run.checked_sub(1)?)?;
        Some(number + u64::from(place - first))
    }

    /// The place of the row with a number.
    fn place(&self, number: u64) -> Option<u32> {
        let run = self.runs.partition_point(|(first, _)| *first <= number);
        let (first, place) = self.runs.get(run.checked_sub(1)?)?;
        let place = place.checked_add(u32::try_from(number - first).ok()?)?;
        let end = self.runs.get(run).map_or(count(self.rows.len()), |(_, next)| *next);
        (place < end).then_some(place)
    }

    fn data_type(&self, row: &Row) -> Option<DataType> {
        *self.types.get(usize::from(row.data_type))?
    }

    /// The rows of a point, with their places: one for each type that it had.
    fn named<'a>(&'a self, device: u32, point: &'a str) -> impl Iterator<Item = (u32, &'a Row)> {
        let places = self.by_name.iter_hash(hash(device, point));
        let rows = places.filter_map(|place| Some((*place, self.rows.get(*place as usize)?)));
        rows.filter(move |(_, row)| row.device == device && row.name(&self.names) == point)
    }

    /// The point that a number means, and the type of its values now; `None` when it is described no more.
    pub(super) fn find(&self, number: u64, points: &PointTable) -> Option<(PointIndex, DataType)> {
        let row = self.rows.get(self.place(number)? as usize)?;
        let (device, point) = (self.devices.get(row.device as usize)?, row.name(&self.names));
        let info = points.find(device, point)?;
        if info.value_type().is_none() {
            // Its device has told nothing yet since the gateway was started.
            let last = self.named(row.device, point).max_by_key(|(place, _)| *place);
            let last = last.and_then(|(_, row)| self.data_type(row));
            last.into_iter().for_each(|last| info.remember(last));
        }
        info.value_type().map(|value_type| (info.index, value_type))
    }

    /// Takes in a row; they come in the order of their numbers, and one that is known already changes nothing.
    pub(super) fn add(&mut self, JournalPoint { number, device, point, data_type }: JournalPoint) {
        if number <= self.last() {
            return;
        }
        let device = match self.by_device.get(&*device) {
            Some(known) => *known,
            None => {
                let (device, place) = (device.into_boxed_str(), count(self.devices.len()));
                self.devices.push(device.clone());
                *self.by_device.entry(device).or_insert(place)
            }
        };
        let known_type = data_type.parse().ok();
        let data_type = self.types.iter().position(|known| *known == known_type).unwrap_or(self.types.len());
        // There is no place for more of them: those beyond have no number.
        if data_type == self.types.len() && data_type < usize::from(u16::MAX) {
            self.types.push(known_type);
        }
        let (name, place) = (count(self.names.len()), count(self.rows.len()));
        if place == 0 || number != self.last() + 1 {
            self.runs.push((number, place));
        }
        let [length, data_type] = [point.len(), data_type].map(|count| u16::try_from(count).unwrap_or(u16::MAX));
        self.rows.push(Row { device, name, length, data_type });
        self.names.push_str(&point);
        // A type of a later version stays without a number here.
        if known_type.is_some() {
            let Self { rows, by_name, names, .. } = self;
            let hash_of = |row: &Row| hash(row.device, row.name(names));
            by_name.insert_unique(hash(device, &point), place, |place| rows.get(*place as usize).map_or(0, hash_of));
        }
    }

    fn last(&self) -> u64 {
        let place = self.rows.len().checked_sub(1).map(count);
        place.and_then(|place| self.number(place)).unwrap_or(0)
    }

    /// Takes in what the database has beyond what is known.
    pub(super) async fn load(&mut self, store: &Store, gateway: &str) -> Result<(), StoreError> {
        let more = store.journal_points(gateway, self.last()).await?;
        // There may be a million.
        aside(|| {
            more.into_iter().for_each(|point| self.add(point));
            self.rows.shrink_to_fit();
            self.names.shrink_to_fit();
        });
        Ok(())
    }

    /// Points that have no number yet, each once: their device, their name, and the type of their values.
    pub(super) fn lacking<'a>(&self, wanted: impl Iterator<Item = &'a PointInfo>) -> Vec<(&'a str, &'a str, String)> {
        let lacking = wanted.filter(|info| self.of(info).is_none());
        let mut new: Vec<_> =
            lacking.filter_map(|info| Some((info.device(), info.name(), info.value_type()?.to_string()))).collect();
        new.sort_unstable();
        new.dedup();
        new
    }

    /// Numbers points; it is in the database when this returns.
    pub(super) async fn give(
        &mut self,
        new: Vec<(&str, &str, String)>,
        store: &Store,
        gateway: &str,
    ) -> Result<(), StoreError> {
        store.add_journal_points(gateway, &new).await?;
        self.load(store, gateway).await?;
        if !self.has_all(&new) {
            // Another uplink was given lower numbers for them, and wrote them after we had looked.
            *self = Self::default();
            self.load(store, gateway).await?;
        }
        Ok(())
    }

    fn has_all(&self, points: &[(&str, &str, String)]) -> bool {
        points.iter().all(|(device, point, data_type)| {
            let (device, data_type) = (self.by_device.get(*device), data_type.parse().ok());
            device.is_some_and(|device| self.named(*device, point).any(|(_, row)| self.data_type(row) == data_type))
        })
    }
}

fn hash(device: u32, name: &str) -> u64 {
    FixedState::default().hash_one((device, name))
}

/// There are far fewer of anything than `u32` can count.
fn count(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::description::{Files, read};

    /// A device `a` with `bc`, and one `ab` with `c`; those of the first have a type.
    fn points(data_type: &str) -> PointTable {
        let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\n\
                    name = \"a\"\nlink = \"l\"\nunit = 1\n[[device]]\nname = \"ab\"\nlink = \"l\"\nunit = 2\n";
        let list = |name: &str, data_type: &str| format!("name,address,type,rate\n{name},holding:0,{data_type},r\n");
        let files: Files = [
            ("gateway.toml", main.to_owned()),
            ("points/a.csv", list("bc", data_type)),
            ("points/ab.csv", list("c", "uint16")),
        ]
        .map(|(path, text)| (path.to_owned(), text))
        .into();
        PointTable::new(&read(&files).unwrap(), &PointTable::default())
    }

    #[test]
    fn each_name_has_a_number_for_each_type_and_keeps_it() {
        let (mut numbers, mut add) = (PointNumbers::default(), Vec::new());
        let row = |number, device: &str, point: &str, data_type: &str| {
            let [device, point, data_type] = [device, point, data_type].map(str::to_owned);
            JournalPoint { number, device, point, data_type }
        };
        add.extend([row(3, "a", "bc", "uint16"), row(4, "ab", "c", "uint16"), row(9, "a", "bc", "float32")]);
        add.extend([row(12, "a", "bc", "quaternion"), row(4, "a", "c", "uint16")]);
        add.into_iter().for_each(|row| numbers.add(row));
        let of = |data_type: &str, device: &str, point: &str| {
            let points = points(data_type);
            points.find(device, point).and_then(|info| numbers.of(info))
        };
        assert_eq!(
            (of("uint16", "a", "bc"), of("float32", "a", "bc"), of("int32", "a", "bc")),
            (Some(3), Some(9), None)
        );
        assert_eq!(of("uint16", "ab", "c"), Some(4), "no other name takes it");
        let now = points("float32");
        let index = |device, point| now.find(device, point).map(|info| info.index);
        let found = |number| numbers.find(number, &now).map(|(index, data_type)| (index, data_type.to_string()));
        assert_eq!(found(3), Some((index("a", "bc").unwrap(), "float32".to_owned())), "of another type before");
        assert_eq!(found(12), found(3), "also of one that is not known here");
        assert_eq!((found(4).map(|found| found.0), found(5)), (index("ab", "c"), None));
        let lacking = points("int32");
        assert_eq!(numbers.lacking(lacking.all().iter()), [("a", "bc", "int32".to_owned())]);
        let has = |device: &'static str, data_type: &str| numbers.has_all(&[(device, "bc", data_type.to_owned())]);
        assert_eq!(
            [has("a", "uint16"), has("a", "int32"), has("ab", "uint16"), has("c", "uint16")],
            [true, false, false, false]
        );
    }
}
