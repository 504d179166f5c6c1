//! What would change if one description took the place of another.

use super::draft::{Content, Draft, list_of, name_of};
use super::memory::Kept;
use super::object::{ObjectClass, ObjectRef};
use super::protocol::Protocols;
use super::row::Row;
use super::schema::{self, ObjectKind};
use super::secret::{SecretFields, SecretText};
use serde::Serialize;
use serde_json::Value;
use std::cell::LazyCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;
use std::sync::Arc;

/// What becomes of an object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Change {
    /// It is new.
    Added,
    /// It is gone.
    Removed,
    /// Some of its fields differ.
    Changed,
}

/// One field that differs. Secrets are never told, only that they differ.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct FieldChange {
    /// The key.
    pub field: String,
    /// What it was, its default if it was left out; `null` when there was nothing.
    pub before: Value,
    /// What it becomes.
    pub after: Value,
}

/// One object that differs.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct ObjectChange {
    /// Which one.
    pub object: ObjectRef,
    /// The devices that a point is one of.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<String>,
    /// What becomes of it.
    pub change: Change,
    /// What differs, when it is there before and after.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<FieldChange>,
    /// The same in words.
    pub words: String,
}

/// What activation does to a link or an uplink.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum PartFate {
    /// It is new and starts.
    Started,
    /// It stops and starts anew.
    Restarted,
    /// A link stays connected, and begins anew with some devices.
    Changed,
    /// An uplink stays connected and tells the births of some devices anew.
    Reborn,
    /// It stops for good.
    Stopped,
    /// It goes on without a gap.
    Untouched,
}

/// One link or uplink, and what activation does to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct PartChange {
    /// Its name.
    pub name: String,
    /// What becomes of it.
    pub fate: PartFate,
    /// Why; for [`PartFate::Reborn`] the devices.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub why: Vec<String>,
}

/// Everything that activation would change.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Difference {
    /// Every link of before and after.
    pub links: Vec<PartChange>,
    /// Every uplink of before and after.
    pub uplinks: Vec<PartChange>,
    /// The objects that differ, in the order of the files: 10,000 of them at the most.
    pub objects: Vec<ObjectChange>,
    /// How many more differ.
    pub more: usize,
    /// Whether objects only stand in another order.
    pub reordered: bool,
}

impl Difference {
    /// How many objects differ.
    #[must_use]
    pub const fn count(&self) -> usize {
        self.objects.len() + self.more
    }

    /// Whether nothing differs.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.objects.is_empty() && !self.reordered
    }
}

/// Fields of a point that its device's birth announces.
const IN_BIRTH: [&str; 11] =
    ["address", "type", "scale", "offset", "span", "enumeration", "unit", "low", "high", "title", "labels"];

/// Compares two descriptions. Without a `before`, everything is new.
#[must_use]
pub fn difference(before: Option<&Draft>, after: &Draft) -> Difference {
    let nothing = Draft::default();
    let before = before.unwrap_or(&nothing);
    let mut objects = changed_objects(before, after);
    let links = links(before, after, &objects);
    let uplinks = uplinks(before, after, &objects);
    let reordered = objects.is_empty() && stand_otherwise(before, after);
    let more = objects.len().saturating_sub(MOST_TOLD);
    objects.truncate(MOST_TOLD);
    objects.shrink_to_fit();
    Difference { links, uplinks, objects, more, reordered }
}

/// Nobody reads more.
const MOST_TOLD: usize = 10_000;

/// The parts of two lists in which they differ: what stands the same at both ends is left out.
fn differing<'a>(before: &'a [Row], after: &'a [Row]) -> (&'a [Row], &'a [Row]) {
    let kept = Kept::of(before, after);
    let part = |rows: &'a [Row]| rows.get(kept.changed(rows.len())).unwrap_or_default();
    (part(before), part(after))
}

/// Every list of before and after that is not the same one, with the rows that differ.
fn lists<'a>(before: &'a Draft, after: &'a Draft) -> impl Iterator<Item = (&'a str, &'a [Row], &'a [Row])> {
    let paths: BTreeSet<&String> = before.lists.keys().chain(after.lists.keys()).collect();
    paths.into_iter().filter_map(move |path| {
        let (old, new) = (before.lists.get(path), after.lists.get(path));
        let is_same = old.zip(new).is_some_and(|(old, new)| Arc::ptr_eq(old, new));
        let (old, new) = if is_same { return None } else { differing(before.rows(path), after.rows(path)) };
        Some((path.as_str(), old, new))
    })
}

/// Whether objects that are all the same stand in another order.
fn stand_otherwise(before: &Draft, after: &Draft) -> bool {
    let names = |rows: &'_ [Row]| rows.iter().map(|row| row.name().to_owned()).collect::<Vec<_>>();
    let order = |draft: &Draft| draft.parts().map(|(object, _)| object).collect::<Vec<_>>();
    order(before) != order(after) || lists(before, after).any(|(_, before, after)| names(before) != names(after))
}

fn changed_objects(before: &Draft, after: &Draft) -> Vec<ObjectChange> {
    let mut comparison = Comparison {
        devices: (devices_by_list(before), devices_by_list(after)),
        protocols: (before.protocols(), after.protocols()),
        changes: Vec::new(),
        removed: Vec::new(),
    };
    comparison.compare(before.parts().map(unnamed).collect(), after.parts().map(unnamed).collect());
    for (list, old, new) in lists(before, after) {
        comparison.compare(named(list, old), named(list, new));
    }
    comparison.changes.append(&mut comparison.removed);
    comparison.changes
}

fn named<'a>(list: &str, rows: &'a [Row]) -> Vec<Object<'a>> {
    rows.iter().map(|row| (ObjectRef::point(list, row.name()), Content::Row(row))).collect()
}

type Object<'a> = (ObjectRef, Content<'a>);

/// What differs so far.
struct Comparison<'a> {
    devices: (BTreeMap<String, Vec<String>>, BTreeMap<String, Vec<String>>),
    protocols: (Protocols<'a>, Protocols<'a>),
    changes: Vec<ObjectChange>,
    removed: Vec<ObjectChange>,
}

impl Comparison<'_> {
    fn compare(&mut self, before: Vec<Object<'_>>, after: Vec<Object<'_>>) {
        let mut known: HashMap<&ObjectRef, &Content<'_>> = before
            .iter()
            .filter(|(_, content)| !content.is_empty())
            .map(|(object, content)| (object, content))
            .collect();
        let of = |map: &BTreeMap<String, Vec<String>>, object: &ObjectRef| {
            map.get(&object.list).cloned().unwrap_or_default()
        };
        for (object, value) in after {
            match known.remove(&object) {
                None => {
                    let devices = of(&self.devices.1, &object);
                    self.changes.push(object_change(object, devices, Change::Added, Vec::new(), &value));
                }
                Some(known) if *known == value => {}
                Some(known) => {
                    let kind = |protocols: &Protocols<'_>, content| protocols.kind(object.class, content);
                    let before = (kind(&self.protocols.0, known), known.clone());
                    let fields = changed_fields(&before, &(kind(&self.protocols.1, &value), value.clone()));
                    if !fields.is_empty() {
                        let devices = of(&self.devices.1, &object);
                        self.changes.push(object_change(object, devices, Change::Changed, fields, &value));
                    }
                }
            }
        }
        for (object, value) in before.iter().filter(|(object, _)| known.contains_key(object)) {
            let devices = of(&self.devices.0, object);
            self.removed.push(object_change(object.clone(), devices, Change::Removed, Vec::new(), value));
        }
    }
}

/// There is one gateway: it is the same one whatever its name.
fn unnamed<V>((object, value): (ObjectRef, V)) -> (ObjectRef, V) {
    match object.class {
        ObjectClass::Gateway => (ObjectRef::new(ObjectClass::Gateway, ""), value),
        _ => (object, value),
    }
}

fn devices_by_list(draft: &Draft) -> BTreeMap<String, Vec<String>> {
    let mut lists: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for device in &draft.devices {
        lists.entry(list_of(device).into_owned()).or_default().push(name_of(device).to_owned());
    }
    lists
}

/// What differs between an object before and after, each with the kind that says its defaults.
pub(super) fn changed_fields(
    before: &(ObjectKind, Content<'_>),
    after: &(ObjectKind, Content<'_>),
) -> Vec<FieldChange> {
    let effective = |(kind, content): &(ObjectKind, Content<'_>), key: &str| {
        let of_default = || schema::of(*kind).default_of(key).cloned();
        let said = content.get(key).filter(|cell| !cell.is_null());
        said.map(|cell| cell.to_value()).or_else(of_default).unwrap_or_default()
    };
    let keys: BTreeSet<&str> = [&before.1, &after.1].into_iter().flat_map(Content::keys).collect();
    let differing = keys.into_iter().filter_map(|key| {
        let (before, after) = (effective(before, key), effective(after, key));
        (!same(&before, &after)).then(|| FieldChange { field: key.to_owned(), before, after })
    });
    let mut fields: Vec<_> = differing.collect();
    let secret = SecretFields::of(after.0.class());
    for field in fields.iter_mut().filter(|field| secret.has(&field.field)) {
        for side in [&mut field.before, &mut field.after].into_iter().filter(|side| !side.is_null()) {
            *side = Value::from(SecretText::PLACEHOLDER);
        }
    }
    fields
}

/// `1` and `1.0` are the same number.
fn same(left: &Value, right: &Value) -> bool {
    match (left.as_f64(), right.as_f64()) {
        (Some(left), Some(right)) => left == right,
        _ => left == right,
    }
}

fn object_change(
    object: ObjectRef,
    devices: Vec<String>,
    change: Change,
    fields: Vec<FieldChange>,
    value: &Content<'_>,
) -> ObjectChange {
    let words = words(&object, &devices, change, &fields, value);
    ObjectChange { object, devices, change, fields, words }
}

fn words(
    object: &ObjectRef,
    devices: &[String],
    change: Change,
    fields: &[FieldChange],
    content: &Content<'_>,
) -> String {
    let text = |key: &str| content.get(key).map(|cell| shown(&cell.to_value())).unwrap_or_default();
    let name = match object.class {
        ObjectClass::Gateway => format!("gateway {}", text("name")),
        ObjectClass::Point => match devices {
            [] => format!("point {} of {}", object.name, object.list),
            devices => format!("point {} of {}", object.name, devices.join(", ")),
        },
        class => format!("{} {}", class.word(), object.name),
    };
    match change {
        Change::Removed => format!("{name} removed"),
        Change::Added => {
            let told = match object.class {
                ObjectClass::Rate => text("period"),
                ObjectClass::Link => {
                    let to = schema::of(ObjectKind::of_link(&text("protocol"))).destination();
                    let to: Vec<_> = to.map(text).filter(|part| !part.is_empty()).collect();
                    [text("protocol"), to.join(":")].join(" ")
                }
                ObjectClass::Device => format!("on link {}", text("link")),
                ObjectClass::Uplink => text("url"),
                ObjectClass::Point => [text("address"), text("type"), text("unit")].join(" "),
                ObjectClass::Gateway => String::new(),
            };
            let told = told.trim();
            if told.is_empty() { format!("{name} added") } else { format!("{name} added: {told}") }
        }
        Change::Changed => {
            let fields = fields.iter().map(|field| {
                let unit = match field.field.as_str() {
                    "deadband" | "low" | "high" => content.text("unit").unwrap_or_default(),
                    _ => "",
                };
                let unit = if field.after.is_number() { unit } else { "" };
                let arrow = format!("{} {} → {} {unit}", field.field, shown(&field.before), shown(&field.after));
                arrow.trim_end().to_owned()
            });
            format!("{name}: {}", fields.collect::<Vec<_>>().join(", "))
        }
    }
}

fn shown(value: &Value) -> String {
    match value {
        Value::Null => "none".to_owned(),
        Value::String(text) if text.is_empty() => "none".to_owned(),
        // Such as a certificate: its last characters tell it from others.
        Value::String(text) if text.contains('\n') => {
            let last = text.lines().rfind(|line| !line.starts_with("-----")).unwrap_or_default();
            let tail: String = last.chars().skip(last.chars().count().saturating_sub(8)).collect();
            format!("({} lines, …{tail})", text.lines().count())
        }
        Value::String(text) => text.clone(),
        other => other.as_f64().map_or_else(|| other.to_string(), |number| number.to_string()),
    }
}

/// Joins the parts of before and after by name: those of after first.
fn fates(before: &[Value], after: &[Value], mut fate: impl FnMut(&str) -> (PartFate, Vec<String>)) -> Vec<PartChange> {
    let has = |objects: &[Value], name: &str| objects.iter().any(|object| name_of(object) == name);
    let gone = before.iter().map(name_of).filter(|name| !has(after, name));
    let mut parts = Vec::new();
    for name in after.iter().map(name_of).chain(gone) {
        let (fate, why) = match (has(before, name), has(after, name)) {
            (false, _) => (PartFate::Started, Vec::new()),
            (_, false) => (PartFate::Stopped, Vec::new()),
            (true, true) => fate(name),
        };
        parts.push(PartChange { name: name.to_owned(), fate, why });
    }
    parts
}

fn links(before: &Draft, after: &Draft, objects: &[ObjectChange]) -> Vec<PartChange> {
    let mut reasons: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let link_of: HashMap<&str, &str> = [before, after]
        .into_iter()
        .flat_map(|draft| &draft.devices)
        .map(|device| (name_of(device), device.get("link").and_then(Value::as_str).unwrap_or_default()))
        .collect();
    // Only a change of a rate asks for them: they are looked for in all rows.
    let rate_users = LazyCell::new(|| [before, after].map(|draft| rate_users(draft)));
    for change in objects.iter().filter(|change| touches_line(before, after, change)) {
        let mut touch = |link, why: String| {
            let known: &mut Vec<String> = reasons.entry(link).or_default();
            if !known.contains(&why) {
                known.push(why);
            }
        };
        match change.object.class {
            ObjectClass::Link => touch(change.object.name.as_str(), OWN.to_owned()),
            ObjectClass::Device => {
                let of =
                    |draft: &'_ Draft| draft.devices.iter().position(|device| name_of(device) == change.object.name);
                for (draft, at) in [(before, of(before)), (after, of(after))] {
                    let device = at.and_then(|at| draft.devices.get(at));
                    if let Some(link) = device.and_then(|device| device.get("link")).and_then(Value::as_str) {
                        touch(link, format!("device {}", change.object.name));
                    }
                }
            }
            ObjectClass::Point => {
                for device in &change.devices {
                    if let Some(link) = link_of.get(device.as_str()) {
                        touch(link, format!("points of {device}"));
                    }
                }
            }
            ObjectClass::Rate => {
                let users = rate_users.iter().filter_map(|users| users.get(change.object.name.as_str())).flatten();
                for link in users {
                    touch(link, format!("rate {}", change.object.name));
                }
            }
            ObjectClass::Gateway | ObjectClass::Uplink => {}
        }
    }
    fates(&before.links, &after.links, |name| match reasons.remove(name) {
        Some(why) if why.iter().any(|why| why == OWN) => (PartFate::Restarted, why),
        Some(why) => (PartFate::Changed, why),
        None => (PartFate::Untouched, Vec::new()),
    })
}

/// Why a part restarts as a whole.
const OWN: &str = "its settings";

/// Which links read something at a rate, by the name of the rate.
fn rate_users(draft: &Draft) -> HashMap<&str, BTreeSet<&str>> {
    let mut users: HashMap<&str, BTreeSet<&str>> = HashMap::new();
    for device in &draft.devices {
        let link = device.get("link").and_then(Value::as_str).unwrap_or_default();
        for row in draft.rows(&list_of(device)) {
            if let Some(rate) = row.text("rate") {
                users.entry(rate).or_default().insert(link);
            }
        }
    }
    users
}

/// Whether a change is one that links notice.
fn touches_line(before: &Draft, after: &Draft, change: &ObjectChange) -> bool {
    if change.change != Change::Changed || change.object.class == ObjectClass::Rate {
        return true;
    }
    let rows = |draft: &Draft| {
        let device = draft.devices.iter().find(|device| name_of(device) == change.object.name);
        device.and_then(|device| draft.lists.get(&*list_of(device))).cloned()
    };
    change.fields.iter().any(|field| match field.field.as_str() {
        "points" => rows(before) != rows(after),
        // What people read and no line carries. The unit of a device is its address; that of a point is not.
        "title" => false,
        "unit" => change.object.class != ObjectClass::Point,
        _ => true,
    })
}

fn uplinks(before: &Draft, after: &Draft, objects: &[ObjectChange]) -> Vec<PartChange> {
    let own: BTreeSet<&str> = objects
        .iter()
        .filter(|change| change.object.class == ObjectClass::Uplink)
        .map(|change| change.object.name.as_str())
        .collect();
    let takes_commands =
        |draft: &Draft| draft.uplinks.iter().any(|uplink| uplink.get("commands") == Some(&true.into()));
    let tells_access = takes_commands(before) || takes_commands(after);
    let mut reborn: Vec<String> = Vec::new();
    for change in objects {
        let in_birth: &[&str] = if change.object.class == ObjectClass::Point { &IN_BIRTH } else { &["points"] };
        let announces = change.change != Change::Changed
            || change
                .fields
                .iter()
                .any(|field| in_birth.contains(&field.field.as_str()) || (tells_access && field.field == "access"));
        match change.object.class {
            ObjectClass::Device if announces => reborn.push(change.object.name.clone()),
            ObjectClass::Point if announces => reborn.extend(change.devices.iter().cloned()),
            _ => {}
        }
    }
    reborn.sort();
    reborn.dedup();
    // Messages from templates have no births.
    let has_births = |name: &str| {
        let same = after.uplinks.iter().find(|uplink| uplink.get("name").and_then(Value::as_str) == Some(name));
        same.is_none_or(|uplink| uplink.get("kind").and_then(Value::as_str) != Some("json"))
    };
    fates(&before.uplinks, &after.uplinks, |name| match own.contains(name) {
        true => (PartFate::Restarted, vec![OWN.to_owned()]),
        false if reborn.is_empty() || !has_births(name) => (PartFate::Untouched, Vec::new()),
        false => (PartFate::Reborn, reborn.clone()),
    })
}

/// The difference as text: what happens to links and uplinks, then what differs, a line each.
impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_empty() {
            return writeln!(f, "Nothing changes.");
        }
        let fate = |fate| match fate {
            PartFate::Started => "starts",
            PartFate::Restarted => "restarts",
            PartFate::Changed => "stays connected, changed",
            PartFate::Reborn => "tells births anew",
            PartFate::Stopped => "stops",
            PartFate::Untouched => "goes on untouched",
        };
        for (word, parts) in [("link", &self.links), ("uplink", &self.uplinks)] {
            for part in parts {
                write!(f, "{word} {} {}", part.name, fate(part.fate))?;
                let separator = if part.fate == PartFate::Reborn { ": " } else { " for " };
                if !part.why.is_empty() {
                    write!(f, "{separator}{}", part.why.join(", "))?;
                }
                writeln!(f)?;
            }
        }
        if self.reordered {
            writeln!(f, "\nObjects stand in another order.")?;
        }
        for (mark, change) in [("+", Change::Added), ("~", Change::Changed), ("-", Change::Removed)] {
            let mut of_kind = self.objects.iter().filter(|object| object.change == change).peekable();
            if of_kind.peek().is_some() {
                writeln!(f)?;
            }
            for object in of_kind {
                writeln!(f, "{mark} {}", object.words)?;
            }
        }
        if self.more > 0 {
            writeln!(f, "\nand {} more objects", self.more)?;
        }
        Ok(())
    }
}
