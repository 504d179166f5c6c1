use super::draft::{Draft, list_of, name_of};
use super::object::{ObjectClass, ObjectRef};
use super::row::Row;
use serde_json::Value;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

impl Draft {
    /// The draft with some of its objects changed, one after the other. An object keeps its place under another name; one that is
    /// new comes last of its kind; one without content goes. Lists of which nothing changes are shared.
    #[must_use]
    pub fn edited<'a>(&self, changes: impl IntoIterator<Item = (&'a ObjectRef, Option<&'a Value>)>) -> Self {
        let mut kinds: BTreeMap<(ObjectClass, &str), Vec<Edit<'_>>> = BTreeMap::new();
        for (object, content) in changes {
            kinds.entry((object.class, &object.list)).or_default().push((&object.name, content));
        }
        let mut draft = self.clone();
        for ((class, list), edits) in kinds {
            draft.change_kind(class, list, &edits);
        }
        draft.settle_lists();
        draft
    }

    /// The draft with other objects in the places of some that it has, all at once, and new ones behind: each with the name that it
    /// has here, whether it is new, and what it becomes.
    #[must_use]
    pub fn overlaid(&self, edits: impl IntoIterator<Item = (ObjectRef, bool, Option<Value>)>) -> Self {
        let mut draft = self.clone();
        let mut kinds: BTreeMap<(ObjectClass, String), Overlay> = BTreeMap::new();
        for (object, is_new, content) in edits {
            let overlay = kinds.entry((object.class, object.list)).or_default();
            match is_new {
                true => overlay.new.extend(content),
                false => _ = overlay.instead.insert(object.name, content),
            }
        }
        for ((class, list), overlay) in kinds {
            draft.change_kind(class, &list, &overlay);
        }
        draft.settle_lists();
        draft
    }

    /// Changes the objects of a class, or the points of a list.
    fn change_kind(&mut self, class: ObjectClass, list: &str, change: &impl ChangeOfKind) {
        match class {
            ObjectClass::Gateway => {
                let mut gateway = vec![Value::Object(std::mem::take(&mut self.gateway))];
                change.apply(&mut gateway);
                self.gateway = gateway.pop().and_then(|last| last.as_object().cloned()).unwrap_or_default();
            }
            ObjectClass::Rate => {
                let mut rates = self.rate_objects();
                change.apply(&mut rates);
                self.rates.clear();
                rates.into_iter().for_each(|rate| self.push(ObjectClass::Rate, "", rate));
            }
            ObjectClass::Link => change.apply(&mut self.links),
            ObjectClass::Device => change.apply(&mut self.devices),
            ObjectClass::Uplink => change.apply(&mut self.uplinks),
            ObjectClass::Point => change.apply(Arc::make_mut(self.lists.entry(list.to_owned()).or_default())),
        }
    }

    /// What edits make of this draft that leave another one: all points of lists that differ.
    #[must_use]
    pub fn list_changes(&self, after: &Self) -> Vec<(ObjectRef, Option<Value>)> {
        let mut changes = Vec::new();
        for (list, rows) in after.lists.iter().filter(|(_, rows)| !rows.is_empty()) {
            let before = self.rows(list);
            if self.lists.get(list).is_some_and(|known| Arc::ptr_eq(known, rows)) {
                continue;
            }
            let mut known: HashMap<&str, &Row> = before.iter().map(|row| (row.name(), row)).collect();
            let new = rows.iter().filter(|row| known.remove(row.name()) != Some(*row)).collect::<Vec<_>>();
            let gone = before.iter().map(Row::name).filter(|name| known.contains_key(name));
            changes.extend(gone.map(|name| (ObjectRef::point(list.as_str(), name), None)));
            let changed = |row: &Row| (ObjectRef::point(list.as_str(), row.name()), Some(row.to_value()));
            changes.extend(new.into_iter().map(changed));
        }
        changes
    }

    /// Shares the lists of another draft that are the same.
    pub fn share_with(&mut self, other: &Self) {
        for (list, rows) in &mut self.lists {
            if let Some(known) = other.lists.get(list).filter(|known| *known == rows) {
                *rows = Arc::clone(known);
            }
        }
    }

    /// Lists are those that have rows, and those that devices name.
    fn settle_lists(&mut self) {
        self.complete_lists();
        let named: HashSet<_> = self.devices.iter().map(list_of).collect();
        self.lists.retain(|list, rows| !rows.is_empty() || named.contains(list.as_str()));
    }
}

/// What becomes of the objects of a kind.
trait ChangeOfKind {
    fn apply<T: Named>(&self, objects: &mut Vec<T>);
}

/// What objects of a draft are kept as.
trait Named {
    fn of(content: &Value) -> Self;
    fn name(&self) -> &str;
}

impl Named for Value {
    fn of(content: &Value) -> Self {
        content.clone()
    }

    fn name(&self) -> &str {
        name_of(self)
    }
}

impl Named for Row {
    fn of(content: &Value) -> Self {
        Self::of(content).unwrap_or_default()
    }

    fn name(&self) -> &str {
        self.name()
    }
}

/// What stands in the places of some objects of a kind, by their names, and what is new behind them.
#[derive(Default)]
struct Overlay {
    instead: HashMap<String, Option<Value>>,
    new: Vec<Value>,
}

/// The name that an object has, and what it becomes.
type Edit<'a> = (&'a str, Option<&'a Value>);

impl ChangeOfKind for Overlay {
    fn apply<T: Named>(&self, objects: &mut Vec<T>) {
        // Of two objects of one name the first is meant.
        let mut taken = HashSet::new();
        objects.retain_mut(|object| match self.instead.get_key_value(object.name()) {
            Some((name, content)) if taken.insert(name.as_str()) => {
                content.iter().for_each(|content| *object = T::of(content));
                content.is_some()
            }
            _ => true,
        });
        objects.extend(self.new.iter().map(T::of));
    }
}

impl ChangeOfKind for Vec<Edit<'_>> {
    fn apply<T: Named>(&self, objects: &mut Vec<T>) {
        // Of two objects of one name the first is meant.
        let mut places: HashMap<String, usize> =
            objects.iter().enumerate().rev().map(|(at, object)| (object.name().to_owned(), at)).collect();
        let mut gone = Vec::new();
        for (name, content) in self {
            let at = places.remove(*name);
            match (at, content) {
                (Some(at), None) => gone.push(at),
                (None, None) => {}
                (known, Some(content)) => {
                    let at = known.unwrap_or(objects.len());
                    match objects.get_mut(at) {
                        Some(object) => *object = T::of(content),
                        None => objects.push(T::of(content)),
                    }
                    places.insert(name_of(content).to_owned(), at);
                }
            }
        }
        gone.sort_unstable();
        let mut at = 0;
        objects.retain(|_| {
            at += 1;
            gone.binary_search(&(at - 1)).is_err()
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn names<T: Named>(objects: &[T]) -> String {
        objects.iter().map(Named::name).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn objects_keep_their_places_under_other_names_and_new_ones_come_last() {
        let mut draft = Draft::new("alderfen-1");
        for name in ["a", "b", "c"] {
            draft.push(ObjectClass::Link, "", json!({ "name": name }));
            draft.push(ObjectClass::Point, "points/x.csv", json!({ "name": name }));
            draft.push(ObjectClass::Point, "points/y.csv", json!({ "name": name }));
            draft.push(ObjectClass::Rate, "", json!({ "name": name, "period": "1s" }));
        }
        let point = |name: &str| ObjectRef::point("points/x.csv", name);
        let [renamed, added] = [json!({ "name": "B" }), json!({ "name": "d" })];
        let again = json!({ "name": "B", "unit": "%" });
        let edits = [
            (point("b"), Some(&renamed)),
            (point("B"), Some(&again)),
            (point("d"), Some(&added)),
            (point("a"), None),
            (point("nobody"), None),
            (ObjectRef::new(ObjectClass::Link, "c"), None),
        ];
        let slower = json!({ "name": "slower", "period": "5s" });
        let rate = (ObjectRef::new(ObjectClass::Rate, "b"), Some(&slower));
        let edited = draft.edited(edits.iter().chain([&rate]).map(|(object, content)| (object, *content)));
        assert_eq!((names(edited.rows("points/x.csv")), names(&edited.links)), ("B c d".to_owned(), "a b".to_owned()));
        assert_eq!(edited.rows("points/x.csv")[0].text("unit"), Some("%"));
        assert_eq!(edited.rates.keys().cloned().collect::<Vec<_>>().join(" "), "a slower c");
        assert!(Arc::ptr_eq(&edited.lists["points/y.csv"], &draft.lists["points/y.csv"]), "what stays is shared");
        // A list goes with its last row, unless a device names it.
        let all: Vec<_> = ["B", "c", "d"].map(point).into_iter().collect();
        assert!(!edited.edited(all.iter().map(|point| (point, None))).lists.contains_key("points/x.csv"));
        let device = json!({ "name": "x" });
        let device = (ObjectRef::new(ObjectClass::Device, "x"), Some(&device));
        // The same, all at once: two that swap their names do not meet.
        let swapped = [("a", json!({ "name": "b" })), ("b", json!({ "name": "a" }))];
        let swapped = swapped.map(|(name, content)| (point(name), false, Some(content)));
        let at_once =
            draft.overlaid(swapped.into_iter().chain([(point("d"), true, Some(added)), (point("c"), false, None)]));
        assert_eq!(names(at_once.rows("points/x.csv")), "b a d");
        let changes = draft.list_changes(&at_once);
        let again = draft.edited(changes.iter().map(|(object, content)| (object, content.as_ref())));
        let sorted =
            |draft: &Draft| draft.rows("points/x.csv").iter().map(|row| row.name().to_owned()).collect::<HashSet<_>>();
        assert_eq!(sorted(&again), sorted(&at_once));
        let kept = edited.edited(all.iter().map(|point| (point, None)).chain([(&device.0, device.1)]));
        assert_eq!(kept.rows("points/x.csv").len(), 0);
        assert!(kept.lists.contains_key("points/x.csv"));
    }
}
