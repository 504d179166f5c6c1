use super::check::Checked;
use super::draft::{Content, Draft, list_of, object};
use super::memory::{CheckMemory, canonical};
use super::row::{Cell, Row};
use super::schema::{self, ObjectKind, ObjectSchema};
use super::{Description, Device, Files, Link, MAIN_FILE, ObjectClass, Protocol, Uplink, UplinkKind, check};
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt::Write as _;
use std::sync::Arc;

/// Writes a description as files: always the same bytes for the same description.
///
/// Keys and columns stand in the order of the types; what has its default value is left out.
#[must_use]
pub fn write(description: &Description) -> Files {
    Draft::from(description).to_files()
}

impl From<&Description> for Draft {
    fn from(description: &Description) -> Self {
        Self::of(description, |_| None)
    }
}

impl CheckMemory {
    /// A description that was found right as a draft in canonical form: lists that are in it already are shared.
    #[must_use]
    pub fn canonical(&self, description: &Description) -> Draft {
        Draft::of(description, |device| {
            let list = self.lists.get(&device.settings.points)?;
            Some(list.points_of(&device.protocol.for_points())?.canonical(list))
        })
    }
}

impl Draft {
    /// A description as a draft; `known` has the rows of devices as far as they need not be made.
    fn of(description: &Description, known: impl Fn(&Device) -> Option<Arc<Vec<Row>>>) -> Self {
        let mut draft = Self {
            gateway: of_parts(ObjectKind::Gateway, &[object(&description.gateway)]),
            rates: description.rates.iter().map(|(name, span)| (name.to_string(), span.to_string().into())).collect(),
            ..Self::default()
        };
        draft.links = description.links.iter().map(link_object).collect();
        for device in &description.devices {
            draft.devices.push(device_object(device));
            // Devices that name the same list have the same points.
            let made = || Arc::new(device.points.iter().map(|point| canonical(point)).collect());
            let rows = || known(device).unwrap_or_else(made);
            draft.lists.entry(device.settings.points.clone()).or_insert_with(rows);
        }
        draft.uplinks = description.uplinks.iter().map(uplink_object).collect();
        draft
    }
}

/// A link as the files have it.
pub(super) fn link_object(link: &Link) -> Value {
    let protocol = Map::from_iter([("protocol".to_owned(), link.protocol.word().into())]);
    let parts = [object(&link.settings), protocol, link.protocol.write()];
    Value::Object(of_parts(ObjectKind::Link(link.protocol.word()), &parts))
}

/// A device as the files have it.
pub(super) fn device_object(device: &Device) -> Value {
    let parts = [object(&device.settings), device.protocol.write()];
    Value::Object(of_parts(ObjectKind::Device(device.protocol.protocol()), &parts))
}

/// An uplink as the files have it.
pub(super) fn uplink_object(uplink: &Uplink) -> Value {
    let kind = Map::from_iter([("kind".to_owned(), uplink.word().into())]);
    let own = match &uplink.kind {
        UplinkKind::Sparkplug(own) => object(own),
        UplinkKind::Json(own) => object(own),
    };
    let parts = [kind, object(&uplink.settings), own, object(&uplink.broker), object(&uplink.journal)];
    Value::Object(of_parts(ObjectKind::of_uplink(uplink.word()), &parts))
}

impl Draft {
    /// The draft in canonical form, when it would run: default values left out, addresses and spans in their own
    /// form. With mistakes, it stays as it is.
    #[must_use]
    pub fn canonical(self) -> Self {
        match check(&self) {
            Checked { description: Some(description), .. } => Self::from(&description),
            _ => self,
        }
    }

    /// The files of the draft: what it holds, in the order of the types, and keys that no type knows at the end.
    #[must_use]
    pub fn to_files(&self) -> Files {
        self.to_files_but(|_| false)
    }

    /// The files of the draft without lists that need not be written.
    #[must_use]
    pub fn to_files_but(&self, is_known: impl Fn(&str) -> bool) -> Files {
        let mut main = String::from("[gateway]\n");
        keys(&mut main, ObjectKind::Gateway, &self.gateway);
        if !self.rates.is_empty() {
            main.push_str("\n[rates]\n");
            self.rates.iter().for_each(|(name, span)| entry(&mut main, name, span));
        }
        let protocols = self.protocols();
        let tables = [
            (ObjectClass::Link, &self.links),
            (ObjectClass::Device, &self.devices),
            (ObjectClass::Uplink, &self.uplinks),
        ];
        for (class, objects) in tables {
            for object in objects {
                let Some(content) = object.as_object() else { continue };
                // Writing into a string cannot fail.
                let _ = write!(main, "\n[[{}]]\n", class.word());
                keys(&mut main, protocols.kind(class, &Content::Object(Cow::Borrowed(object))), content);
            }
        }
        let named: HashMap<_, _> = self.devices.iter().map(|device| (list_of(device), protocols.of(device))).collect();
        let lists = self.lists.iter().filter(|(path, rows)| !rows.is_empty() || named.contains_key(path.as_str()));
        let lists = lists.filter(|(path, _)| !is_known(path));
        let written = |(path, rows): (&String, &Arc<Vec<Row>>)| {
            let protocol = named.get(path.as_str()).copied().flatten();
            (path.clone(), points_csv(rows, protocol))
        };
        let mut files: Files = lists.map(written).collect();
        files.insert(MAIN_FILE.to_owned(), main);
        files
    }
}

/// Rows of a point list as CSV, with a heading: the columns of a protocol, or those of all where it is not known.
#[must_use]
pub fn points_csv(rows: &[Row], protocol: Option<Protocol>) -> String {
    let schema = schema::of(protocol.map_or(ObjectKind::Row, ObjectKind::Point));
    // Columns that most lists leave empty stand in a list only where it needs them.
    let is_used = |key: &str| rows.iter().any(|row| row.get(key).is_some_and(|cell| !cell.is_null()));
    let columns: Vec<_> = schema.keys().filter(|key| !schema.is_advanced(key) || is_used(key)).collect();
    let mut writer = csv::Writer::from_writer(Vec::new());
    let cells = |row: &Row| {
        let cell = |key| match row.get(key) {
            Some(Cell::Text(text)) => text.to_owned(),
            None | Some(Cell::Null) => String::new(),
            Some(other) => other.as_f64().map_or_else(|| other.to_value().to_string(), |number| number.to_string()),
        };
        columns.iter().copied().map(cell).collect::<Vec<_>>()
    };
    let header = columns.iter().map(|key| (*key).to_owned()).collect();
    let written = std::iter::once(header).chain(rows.iter().map(cells)).try_for_each(|row| writer.write_record(row));
    debug_assert!(written.is_ok(), "a vector takes every row");
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// Puts the parts of an object together in the order of its schema, without what has its default value.
pub(super) fn of_parts(kind: ObjectKind, parts: &[Map<String, Value>]) -> Map<String, Value> {
    let schema: &ObjectSchema = schema::of(kind);
    let said = |key: &str| {
        let value = parts.iter().find_map(|part| part.get(key))?;
        let is_said = !value.is_null() && Some(value) != schema.default_of(key);
        is_said.then(|| (key.to_owned(), value.clone()))
    };
    schema.keys().filter_map(said).collect()
}

fn keys(out: &mut String, kind: ObjectKind, object: &Map<String, Value>) {
    let schema = schema::of(kind);
    let known = schema.keys().filter_map(|key| object.get_key_value(key));
    let unknown = object.iter().filter(|(key, _)| !schema.keys().any(|known| known == *key));
    for (key, value) in known.chain(unknown).filter(|(_, value)| !value.is_null()) {
        entry(out, key, value);
    }
}

fn entry(out: &mut String, key: &str, value: &Value) {
    let bare = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    let key = if key.chars().all(bare) { key.to_owned() } else { toml::Value::from(key).to_string() };
    if let Ok(value) = toml::Value::try_from(value) {
        // Writing into a string cannot fail.
        let _ = writeln!(out, "{key} = {value}");
    }
}
