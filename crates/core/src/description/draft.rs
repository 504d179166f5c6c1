use super::object::{ObjectClass, ObjectRef};
use super::row::{Cell, Row};
use serde::Serialize;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A description as somebody wrote it: objects with the keys of the files, which may be wrong or missing.
///
/// Every object is a JSON object. [`check`](super::check) finds what keeps a draft from running.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Draft {
    /// The gateway itself.
    pub gateway: Map<String, Value>,
    /// Sampling periods by name, as text.
    pub rates: Map<String, Value>,
    /// Transports to the field.
    pub links: Vec<Value>,
    /// Field devices.
    pub devices: Vec<Value>,
    /// Connections to brokers.
    pub uplinks: Vec<Value>,
    /// The rows of the point lists, by path. Several devices may use one list. Drafts share those in which they do not differ.
    pub lists: BTreeMap<String, Arc<Vec<Row>>>,
}

impl Draft {
    /// A gateway with a name and nothing else.
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self { gateway: Map::from_iter([("name".to_owned(), Value::from(name))]), ..Self::default() }
    }

    /// The name of the gateway, where it has one.
    #[must_use]
    pub fn name(&self) -> &str {
        self.gateway.get("name").and_then(Value::as_str).unwrap_or_default()
    }

    /// All objects with their references, in the order of the files.
    pub fn objects(&self) -> impl Iterator<Item = (ObjectRef, Content<'_>)> {
        self.objects_in(self.lists.keys().map(String::as_str))
    }

    /// All objects but the points.
    pub fn parts(&self) -> impl Iterator<Item = (ObjectRef, Content<'_>)> {
        let gateway =
            (ObjectRef::new(ObjectClass::Gateway, self.name()), Cow::Owned(Value::Object(self.gateway.clone())));
        let rates = self.rates.iter().map(|(name, period)| {
            (ObjectRef::new(ObjectClass::Rate, name.as_str()), Cow::Owned(rate_object(name, period)))
        });
        std::iter::once(gateway)
            .chain(rates)
            .chain(named(ObjectClass::Link, &self.links))
            .chain(named(ObjectClass::Device, &self.devices))
            .chain(named(ObjectClass::Uplink, &self.uplinks))
            .map(|(object, value)| (object, Content::Object(value)))
    }

    /// The rates as objects of their own.
    pub(super) fn rate_objects(&self) -> Vec<Value> {
        self.rates.iter().map(|(name, period)| rate_object(name, period)).collect()
    }

    /// All objects but the points of other lists than these.
    pub fn objects_in<'a>(
        &'a self,
        lists: impl IntoIterator<Item = &'a str>,
    ) -> impl Iterator<Item = (ObjectRef, Content<'a>)> {
        let points = lists.into_iter().flat_map(|list| {
            self.rows(list).iter().map(move |row| (ObjectRef::point(list, row.name()), Content::Row(row)))
        });
        self.parts().chain(points)
    }

    /// One object.
    #[must_use]
    pub fn object(&self, wanted: &ObjectRef) -> Option<Content<'_>> {
        if wanted.class == ObjectClass::Point {
            return self.rows(&wanted.list).iter().find(|row| row.name() == wanted.name).map(Content::Row);
        }
        self.parts().find(|(object, _)| object == wanted).map(|(_, content)| content)
    }

    /// The rows of a list; none where there is no such list.
    #[must_use]
    pub fn rows(&self, list: &str) -> &[Row] {
        self.lists.get(list).map_or(&[], |rows| rows)
    }

    /// How many points its lists have.
    #[must_use]
    pub fn points(&self) -> usize {
        self.lists.values().map(|rows| rows.len()).sum()
    }

    /// Adds an object at the end of its kind. A rate is an object with `name` and `period`.
    pub fn push(&mut self, class: ObjectClass, list: &str, value: Value) {
        match class {
            ObjectClass::Gateway => self.gateway = value.as_object().cloned().unwrap_or_default(),
            ObjectClass::Rate => {
                let period = value.get("period").cloned().unwrap_or_default();
                self.rates.insert(name_of(&value).to_owned(), period);
            }
            ObjectClass::Link => self.links.push(value),
            ObjectClass::Device => self.devices.push(value),
            ObjectClass::Uplink => self.uplinks.push(value),
            ObjectClass::Point => {
                let rows = Arc::make_mut(self.lists.entry(list.to_owned()).or_default());
                rows.push(Row::of(&value).unwrap_or_default());
            }
        }
    }

    /// Sees to it that every list that a device names is there, be it empty.
    pub fn complete_lists(&mut self) {
        for device in &self.devices {
            self.lists.entry(list_of(device).into_owned()).or_default();
        }
    }
}

/// What an object of a draft has.
#[derive(Debug, Clone)]
pub enum Content<'a> {
    /// Of all but points.
    Object(Cow<'a, Value>),
    /// Of a point.
    Row(&'a Row),
}

impl Content<'_> {
    /// What it has of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<Cell<'_>> {
        match self {
            Self::Object(object) => object.get(key).map(Cell::of),
            Self::Row(row) => row.get(key),
        }
    }

    /// The text that it has of a key.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<&str> {
        self.get(key).and_then(|cell| cell.as_str())
    }

    /// Whether it has nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        match self {
            Self::Object(object) => object.as_object().is_some_and(Map::is_empty),
            Self::Row(row) => row.is_empty(),
        }
    }

    /// Its keys.
    pub(super) fn keys(&self) -> Vec<&str> {
        match self {
            Self::Object(object) => object.as_object().into_iter().flat_map(Map::keys).map(String::as_str).collect(),
            Self::Row(row) => row.cells().map(|(key, _)| key).collect(),
        }
    }

    /// It as JSON.
    #[must_use]
    pub fn to_value(&self) -> Cow<'_, Value> {
        match self {
            Self::Object(object) => Cow::Borrowed(object),
            Self::Row(row) => Cow::Owned(row.to_value()),
        }
    }

    /// The same.
    #[must_use]
    pub fn into_value(self) -> Value {
        match self {
            Self::Object(object) => object.into_owned(),
            Self::Row(row) => row.to_value(),
        }
    }
}

impl PartialEq for Content<'_> {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Object(one), Self::Object(other)) => one == other,
            (Self::Row(one), Self::Row(other)) => one == other,
            (one, other) => one.clone().into_value() == other.clone().into_value(),
        }
    }
}

fn named(class: ObjectClass, objects: &[Value]) -> impl Iterator<Item = (ObjectRef, Cow<'_, Value>)> {
    objects.iter().map(move |value| (ObjectRef::new(class, name_of(value)), Cow::Borrowed(value)))
}

/// A part of the description as an object of the draft.
pub(super) fn object(part: &impl Serialize) -> Map<String, Value> {
    match serde_json::to_value(part) {
        Ok(Value::Object(object)) => object,
        _ => Map::new(),
    }
}

/// A rate as an object of its own.
pub(super) fn rate_object(name: &str, period: &Value) -> Value {
    Value::from_iter([("name", Value::from(name)), ("period", period.clone())])
}

/// The name of an object; empty when it has none.
pub(super) fn name_of(object: &Value) -> &str {
    object.get("name").and_then(Value::as_str).unwrap_or_default()
}

/// The point list of a device: the one that it names, or the one that is called after it.
#[must_use]
pub fn list_of(device: &Value) -> Cow<'_, str> {
    match device.get("points").and_then(Value::as_str).filter(|path| !path.is_empty()) {
        Some(path) => Cow::Borrowed(path),
        None => Cow::Owned(format!("points/{}.csv", name_of(device))),
    }
}
