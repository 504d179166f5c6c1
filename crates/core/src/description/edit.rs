use super::draft::{Draft, list_of, name_of};
use super::object::{ObjectClass, ObjectRef};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap};
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
            draft.change_kind(class, list, &mut |objects| carry_out(objects, &edits));
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
        for ((class, list), Overlay { mut instead, new }) in kinds {
            let mut lay = |objects: &mut Vec<Value>| {
                objects.retain_mut(|object| match instead.remove(name_of(object)) {
                    Some(Some(content)) => {
                        *object = content;
                        true
                    }
                    Some(None) => false,
                    None => true,
                });
                objects.extend(new.iter().cloned());
            };
            draft.change_kind(class, &list, &mut lay);
        }
        draft.settle_lists();
        draft
    }

    /// Changes the objects of a class, or the points of a list.
    fn change_kind(&mut self, class: ObjectClass, list: &str, change: &mut dyn FnMut(&mut Vec<Value>)) {
        match class {
            ObjectClass::Gateway => {
                let mut gateway = vec![Value::Object(std::mem::take(&mut self.gateway))];
                change(&mut gateway);
                self.gateway = gateway.pop().and_then(|last| last.as_object().cloned()).unwrap_or_default();
            }
            ObjectClass::Rate => {
                let mut rates = self.rate_objects();
                change(&mut rates);
                self.rates.clear();
                rates.into_iter().for_each(|rate| self.push(ObjectClass::Rate, "", rate));
            }
            ObjectClass::Link => change(&mut self.links),
            ObjectClass::Device => change(&mut self.devices),
            ObjectClass::Uplink => change(&mut self.uplinks),
            ObjectClass::Point => change(Arc::make_mut(self.lists.entry(list.to_owned()).or_default())),
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
            let mut known: HashMap<&str, &Value> = before.iter().map(|row| (name_of(row), row)).collect();
            let new = rows.iter().filter(|row| known.remove(name_of(row)) != Some(*row)).cloned().collect::<Vec<_>>();
            let gone = before.iter().map(name_of).filter(|name| known.contains_key(name));
            changes.extend(gone.map(|name| (ObjectRef::point(list.as_str(), name), None)));
            changes.extend(new.into_iter().map(|row| (ObjectRef::point(list.as_str(), name_of(&row)), Some(row))));
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
        let named: std::collections::HashSet<_> = self.devices.iter().map(list_of).collect();
        self.lists.retain(|list, rows| !rows.is_empty() || named.contains(list.as_str()));
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

fn carry_out(objects: &mut Vec<Value>, edits: &[Edit<'_>]) {
    // Of two objects of one name the first is meant.
    let mut places: HashMap<String, usize> =
        objects.iter().enumerate().rev().map(|(at, object)| (name_of(object).to_owned(), at)).collect();
    let mut gone = Vec::new();
    for (name, content) in edits {
        let at = places.remove(*name);
        match (at, content) {
            (Some(at), None) => gone.push(at),
            (None, None) => {}
            (known, Some(content)) => {
                let at = known.unwrap_or(objects.len());
                match objects.get_mut(at) {
                    Some(object) => *object = (*content).clone(),
                    None => objects.push((*content).clone()),
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

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn names(objects: &[Value]) -> String {
        objects.iter().map(name_of).collect::<Vec<_>>().join(" ")
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
        assert_eq!(edited.rows("points/x.csv")[0]["unit"], "%");
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
        let sorted = |draft: &Draft| {
            draft.rows("points/x.csv").iter().map(name_of).map(str::to_owned).collect::<std::collections::BTreeSet<_>>()
        };
        assert_eq!(sorted(&again), sorted(&at_once));
        let kept = edited.edited(all.iter().map(|point| (point, None)).chain([(&device.0, device.1)]));
        assert_eq!(kept.rows("points/x.csv").len(), 0);
        assert!(kept.lists.contains_key("points/x.csv"));
    }
}
