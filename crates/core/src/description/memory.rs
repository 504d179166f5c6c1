//! What a check found of point lists, for the next check: what stands as it was is not looked at again.

use super::draft::object;
use super::problem::Fault;
use super::protocol::PointsOf;
use super::row::Row;
use super::schema::ObjectKind;
use super::write::of_parts;
use super::{Description, DeviceProtocol, Point, PointProtocol, PointTraits};
use crate::Shaping;
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::sync::{Arc, OnceLock};

/// Those of a device, each shared with descriptions that have the same one.
type Points = Arc<[Arc<Point>]>;

/// What a check found of the point lists of a draft.
#[derive(Debug, Clone, Default)]
pub struct CheckMemory {
    pub(super) lists: HashMap<String, KnownList>,
    /// The points that run, by their list and what they depend on beside it.
    running: HashMap<String, Vec<(PointsOf, Points)>>,
}

impl CheckMemory {
    /// Nothing was checked yet, and this runs: points of a list that are as they run are shared with it.
    #[must_use]
    pub fn running(description: &Description) -> Self {
        let mut running: HashMap<_, Vec<_>> = HashMap::new();
        for device in &description.devices {
            let of_list = running.entry(device.settings.points.clone()).or_default();
            let key = device.protocol.for_points();
            if !of_list.iter().any(|(known, _)| *known == key) {
                of_list.push((key, Arc::clone(&device.points)));
            }
        }
        Self { lists: HashMap::new(), running }
    }

    /// What was found of lists.
    pub(super) fn of(lists: HashMap<String, KnownList>) -> Self {
        Self { lists, running: HashMap::new() }
    }

    /// The points of a list that run.
    pub(super) fn that_run(&self, list: &str, key: &PointsOf) -> &[Arc<Point>] {
        let known = self.running.get(list).and_then(|known| known.iter().find(|(known, _)| known == key));
        known.map_or(&[], |(_, points)| points)
    }
}

/// A fault, and the row that it is of.
pub(super) type RowFault = (usize, Fault);

/// What was found of a list by itself, and as the list of devices.
#[derive(Debug, Clone)]
pub(super) struct KnownList {
    pub(super) rows: Arc<Vec<Row>>,
    /// What its rows are read as.
    pub(super) kinds: Vec<ObjectKind>,
    /// The rates that there are.
    pub(super) rates: Arc<BTreeSet<String>>,
    /// Whether each row follows its schema.
    pub(super) sound: Arc<[bool]>,
    /// What is wrong with rows by themselves, and with their names among each other.
    pub(super) faults: Arc<[RowFault]>,
    pub(super) duplicates: Arc<[RowFault]>,
    /// What stands as it did before.
    pub(super) kept: Kept,
    /// Its points, for each kind of device that makes others of them.
    pub(super) points: Vec<Arc<KnownPoints>>,
}

/// How many rows stand as they did, at the beginning and at the end.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Kept {
    first: usize,
    last: usize,
}

/// The points of a list, as devices of one kind have them.
#[derive(Debug)]
pub(super) struct KnownPoints {
    /// What of the device they depend on.
    pub(super) of: PointsOf,
    pub(super) points: Points,
    /// The row of each.
    places: Vec<u32>,
    pub(super) faults: Vec<RowFault>,
    pub(super) clashes: Vec<RowFault>,
    /// Their rows in canonical form, once somebody has asked.
    canonical: OnceLock<Arc<Vec<Row>>>,
}

impl Kept {
    /// What of a list stands as it did. An edit, rows that are put in or taken out at one place leave all others as they are.
    pub(super) fn of(before: &[Row], after: &[Row]) -> Self {
        let first = before.iter().zip(after).take_while(|(one, other)| one == other).count();
        let rest = before.len().min(after.len()) - first;
        let last = before.iter().rev().zip(after.iter().rev()).take(rest).take_while(|(one, other)| one == other);
        Self { first, last: last.count() }
    }

    /// The rows that do not, of so many.
    pub(super) fn changed(self, rows: usize) -> std::ops::Range<usize> {
        self.first..rows - self.last
    }

    /// What was known of each row, with what is found of those that changed in its place.
    pub(super) fn renewed<T: Clone>(
        self,
        (before, rows_before): (&[(usize, T)], usize),
        found: Vec<(usize, T)>,
        rows: usize,
    ) -> Vec<(usize, T)> {
        let first = before.iter().filter(|(at, _)| *at < self.first).cloned();
        let behind = before.iter().filter(|(at, _)| *at >= rows_before - self.last).cloned();
        let last = behind.map(|(at, known)| (at + rows - rows_before, known));
        first.chain(found).chain(last).collect()
    }
}

impl KnownList {
    /// The points that were made of it for devices of this kind.
    pub(super) fn points_of(&self, key: &PointsOf) -> Option<&Arc<KnownPoints>> {
        self.points.iter().find(|known| known.of == *key)
    }
}

/// What points of a list have in common, once for all of them.
#[derive(Debug, Default)]
struct Sharing {
    traits: VecDeque<Arc<PointTraits>>,
    protocols: VecDeque<Arc<PointProtocol>>,
    shapings: VecDeque<Arc<Shaping>>,
}

/// A point is compared with so many that differ from each other before it.
const COMPARED: usize = 32;

impl Sharing {
    /// A point that shares with those before it what they have in common.
    fn shared(&mut self, Point { mut settings, protocol, address, shaping }: Point) -> Point {
        settings.traits = one_of(&mut self.traits, settings.traits);
        let protocol = one_of(&mut self.protocols, protocol);
        Point { settings, protocol, address, shaping: one_of(&mut self.shapings, shaping) }
    }
}

/// The same as one of those that are known already, or itself, from now on known, too.
fn one_of<T: PartialEq>(known: &mut VecDeque<Arc<T>>, one: Arc<T>) -> Arc<T> {
    if let Some(same) = known.iter().rev().find(|known| **known == one) {
        return Arc::clone(same);
    }
    if known.len() == COMPARED {
        known.pop_front();
    }
    known.push_back(Arc::clone(&one));
    one
}

/// Makes a point of a row; what is wrong with it is added to the faults.
pub(super) type Make<'a> = dyn FnMut(&Row) -> (Option<Point>, Vec<Fault>) + 'a;

impl KnownPoints {
    /// Makes the points of a list, or of what changed in it since `before` was made.
    pub(super) fn new(
        device: &DeviceProtocol,
        list: &KnownList,
        before: Option<(&Self, &KnownList)>,
        running: &[Arc<Point>],
        make: &mut Make<'_>,
    ) -> Self {
        let running: HashMap<&str, &Arc<Point>> =
            running.iter().map(|point| (point.settings.name.as_str(), point)).collect();
        let (rows, kept) = (&list.rows, if before.is_some() { list.kept } else { Kept::default() });
        let (mut made, mut faults, mut sharing) = (Vec::new(), Vec::new(), Sharing::default());
        for at in kept.changed(rows.len()) {
            let Some(row) = rows.get(at).filter(|_| list.sound.get(at) == Some(&true)) else { continue };
            let (point, found) = make(row);
            faults.extend(found.into_iter().map(|fault| (at, fault)));
            made.extend(point.map(|point| {
                let same = running.get(point.settings.name.as_str()).copied().filter(|same| ***same == point);
                (at, same.map_or_else(|| Arc::new(sharing.shared(point)), Arc::clone))
            }));
        }
        let is_canonical = before.is_some_and(|(known, list)| known.is_canonical(list))
            && made.len() == kept.changed(rows.len()).len()
            && made.iter().all(|(at, point)| rows.get(*at) == Some(&canonical(point)));
        let (mut all, mut every_fault) = (made, faults);
        if let Some((known, list)) = before {
            let places = known.places.iter().map(|place| *place as usize);
            let points: Vec<_> = places.zip(known.points.iter().cloned()).collect();
            all = kept.renewed((&points, list.rows.len()), all, rows.len());
            every_fault = kept.renewed((&known.faults, list.rows.len()), every_fault, rows.len());
        }
        let places = all.iter().map(|(at, _)| u32::try_from(*at).unwrap_or(u32::MAX)).collect();
        let points: Points = all.into_iter().map(|(_, point)| point).collect();
        let mut known = Self {
            of: device.for_points(),
            points,
            places,
            faults: every_fault,
            clashes: Vec::new(),
            canonical: OnceLock::new(),
        };
        known.clashes =
            device.clashes(&known.points).into_iter().filter_map(|(at, fault)| Some((known.row(at)?, fault))).collect();
        if is_canonical {
            let _ = known.canonical.set(Arc::clone(rows));
        }
        known
    }

    /// The row of a point.
    fn row(&self, at: usize) -> Option<usize> {
        self.places.get(at).map(|place| *place as usize)
    }

    fn is_canonical(&self, list: &KnownList) -> bool {
        self.canonical.get().is_some_and(|rows| Arc::ptr_eq(rows, &list.rows))
    }

    /// Their rows in canonical form: those of the list itself, where they are that already.
    pub(super) fn canonical(&self, list: &KnownList) -> Arc<Vec<Row>> {
        let make = || {
            let rows: Vec<_> = self.points.iter().map(|point| canonical(point)).collect();
            if rows == *list.rows { Arc::clone(&list.rows) } else { Arc::new(rows) }
        };
        Arc::clone(self.canonical.get_or_init(make))
    }
}

/// A point as its row in canonical form.
pub(super) fn canonical(point: &Point) -> Row {
    let parts = [object(&point.settings), point.protocol.write()];
    Row::from(&of_parts(ObjectKind::Point(point.protocol.protocol()), &parts))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::Cell;

    #[test]
    fn what_stands_at_both_ends_is_kept_and_no_row_counts_twice() {
        let row = |letter: char| Row::from_iter([("name", Cell::Text(&letter.to_string()))]);
        let rows = |text: &str| text.chars().map(row).collect::<Vec<_>>();
        for (before, after, first, last) in [
            ("abcd", "abcd", 4, 0),
            ("abcd", "axcd", 1, 2),
            ("abcd", "abxcd", 2, 2),
            ("abcd", "ad", 1, 1),
            ("aa", "aaa", 2, 0),
            ("aaa", "aa", 2, 0),
            ("", "ab", 0, 0),
            ("ab", "", 0, 0),
        ] {
            let (before, after) = (rows(before), rows(after));
            let kept = Kept::of(&before, &after);
            assert_eq!(kept, Kept { first, last }, "{before:?} {after:?}");
            let known: Vec<_> = before.iter().cloned().enumerate().collect();
            let changed = kept.changed(after.len()).map(|at| (at, after[at].clone())).collect();
            let renewed = kept.renewed((&known, before.len()), changed, after.len());
            assert_eq!(renewed, after.iter().cloned().enumerate().collect::<Vec<_>>());
        }
    }
}
