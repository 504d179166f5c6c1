use foldhash::HashMap;
use interlex_core::{DataType, PointIndex, PointInfo, PointTable};
use interlex_store::{JournalPoint, Store, StoreError};

/// The numbers by which journal blocks name points: rows of the database that are only ever added.
#[derive(Debug, Clone, Default)]
pub(crate) struct PointNumbers {
    /// By device, then by point, with the type of its values: looked up for every sample, without a name being made.
    by_name: HashMap<String, HashMap<String, Vec<(DataType, u64)>>>,
    by_number: HashMap<u64, (String, String)>,
    last: u64,
}

impl PointNumbers {
    /// The number of a point with the type that its values have.
    pub(super) fn of(&self, info: &PointInfo) -> Option<u64> {
        let (known, value_type) = (self.named(&info.device, info.name())?, info.value_type()?);
        known.iter().find(|(data_type, _)| *data_type == value_type).map(|(_, number)| *number)
    }

    fn named(&self, device: &str, point: &str) -> Option<&[(DataType, u64)]> {
        Some(self.by_name.get(device)?.get(point)?)
    }

    /// The point that a number means, and the type of its values now; `None` when it is described no more.
    pub(super) fn find(&self, number: u64, points: &PointTable) -> Option<(PointIndex, DataType)> {
        let (device, point) = self.by_number.get(&number)?;
        let info = points.find(device, point)?;
        if info.value_type().is_none()
            && let Some((last, _)) = self.named(device, point).and_then(|known| known.last())
        {
            // Its device has told nothing yet since the gateway was started.
            info.remember(*last);
        }
        info.value_type().map(|value_type| (info.index, value_type))
    }

    pub(super) fn add(&mut self, JournalPoint { number, device, point, data_type }: JournalPoint) {
        self.last = self.last.max(number);
        self.by_number.insert(number, (device.clone(), point.clone()));
        // A type of a later version stays without a number here.
        if let Ok(data_type) = data_type.parse() {
            self.by_name.entry(device).or_default().entry(point).or_default().push((data_type, number));
        }
    }

    /// Takes in what the database has beyond what is known.
    pub(super) async fn load(&mut self, store: &Store, gateway: &str) -> Result<(), StoreError> {
        let more = store.journal_points(gateway, self.last).await?;
        more.into_iter().for_each(|point| self.add(point));
        Ok(())
    }

    /// Points that have no number yet, each once: their device, their name, and the type of their values.
    pub(super) fn lacking<'a>(&self, wanted: impl Iterator<Item = &'a PointInfo>) -> Vec<(&'a str, &'a str, String)> {
        let lacking = wanted.filter(|info| self.of(info).is_none());
        let mut new: Vec<_> =
            lacking.filter_map(|info| Some((&*info.device, info.name(), info.value_type()?.to_string()))).collect();
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
        self.load(store, gateway).await
    }
}
