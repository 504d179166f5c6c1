use super::key_rule::{self, KeyRule};
use super::problem::Fault;
use super::row::Cell;
use super::settings::{DeviceSettings, GatewaySettings, LinkSettings, PointSettings, RateSettings};
use super::uplink::{BrokerSettings, JournalSettings, JsonUplink, SparkplugUplink, UplinkSettings};
use super::{ObjectClass, Protocol};
use foldhash::HashMap;
use schemars::{Schema, json_schema};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// The kinds of objects that a description is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ObjectKind {
    /// `[gateway]`
    Gateway,
    /// A line of `[rates]`
    Rate,
    /// `[[link]]` with this word as its `protocol`.
    Link(&'static str),
    /// `[[device]]` on a link of this protocol.
    Device(Protocol),
    /// `[[uplink]]` with `kind = "sparkplug"`
    SparkplugUplink,
    /// `[[uplink]]` with `kind = "json"`
    JsonUplink,
    /// A row of a point list of devices with this protocol.
    Point(Protocol),
    /// A row of a point list by itself, with the columns of all protocols: those of one name mean the same.
    Row,
}

/// The JSON Schema (draft 2020-12) of one kind of object, made from its Rust types.
#[must_use]
pub fn schema(kind: ObjectKind) -> &'static Value {
    &of(kind).document
}

/// What the text of a cell is read as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum CellKind {
    /// True or false.
    Switch,
    /// A whole number.
    Whole,
    /// Any number.
    Number,
    /// It is text.
    Text,
}

/// A schema and what the checks and the writer need of it.
#[derive(Debug)]
pub(super) struct ObjectSchema {
    document: Value,
    /// Of each key; none when there is one that says more than a rule can.
    rules: Option<HashMap<String, KeyRule>>,
    /// The keys that every object has.
    required: Vec<String>,
    /// What it is the schema of, where others of its class have other keys.
    kind: Option<ObjectKind>,
}

impl ObjectKind {
    /// The kinds of uplinks, by the word of their kind.
    pub const UPLINKS: [(&'static str, Self); 2] = [("sparkplug", Self::SparkplugUplink), ("json", Self::JsonUplink)];

    /// All of them.
    pub fn all() -> impl Iterator<Item = Self> {
        let of_protocol = |protocol| [Self::Device(protocol), Self::Point(protocol)];
        let uplinks = Self::UPLINKS.into_iter().map(|(_, kind)| kind);
        let of_protocols = Protocol::ALL.into_iter().flat_map(of_protocol);
        [Self::Gateway, Self::Rate, Self::Row].into_iter().chain(Self::links()).chain(of_protocols).chain(uplinks)
    }

    /// The kinds of links.
    pub fn links() -> impl Iterator<Item = Self> {
        Self::link_words().map(Self::Link)
    }

    /// What links have as their `protocol`.
    pub(super) fn link_words() -> impl Iterator<Item = &'static str> {
        Protocol::ALL.into_iter().flat_map(Protocol::links).map(|(word, _)| *word)
    }

    /// The kind of an uplink by its word; that of Sparkplug for words that no kind has.
    #[must_use]
    pub fn of_uplink(word: &str) -> Self {
        Self::UPLINKS.iter().find(|(known, _)| *known == word).map_or(Self::SparkplugUplink, |(_, kind)| *kind)
    }

    /// The kind of a link by the word of its protocol; that of Modbus TCP for words that no protocol has.
    #[must_use]
    pub fn of_link(word: &str) -> Self {
        Self::Link(Self::link_words().find(|known| *known == word).unwrap_or("modbus-tcp"))
    }

    /// The kind of a device by its protocol; that of Modbus where it is not known.
    #[must_use]
    pub fn of_device(protocol: Option<Protocol>) -> Self {
        Self::Device(protocol.unwrap_or(Protocol::Modbus))
    }

    /// The class of its objects.
    #[must_use]
    pub const fn class(self) -> ObjectClass {
        match self {
            Self::Gateway => ObjectClass::Gateway,
            Self::Rate => ObjectClass::Rate,
            Self::Link(_) => ObjectClass::Link,
            Self::Device(_) => ObjectClass::Device,
            Self::SparkplugUplink | Self::JsonUplink => ObjectClass::Uplink,
            Self::Point(_) | Self::Row => ObjectClass::Point,
        }
    }

    /// What tells it from the others of its class.
    fn words(self) -> String {
        match self {
            Self::Link(word) => format!("protocol = {word:?}"),
            Self::Device(protocol) => format!("devices of {}", protocol.title()),
            Self::Point(protocol) => format!("points of {}", protocol.title()),
            Self::SparkplugUplink => "kind = \"sparkplug\"".to_owned(),
            Self::JsonUplink => "kind = \"json\"".to_owned(),
            Self::Gateway | Self::Rate | Self::Row => self.class().word().to_owned(),
        }
    }
}

pub(super) fn of(kind: ObjectKind) -> &'static ObjectSchema {
    static ALL: LazyLock<BTreeMap<ObjectKind, ObjectSchema>> =
        LazyLock::new(|| ObjectKind::all().map(|kind| (kind, ObjectSchema::of_kind(kind))).collect());
    // A link with a word that no protocol has.
    static NONE: LazyLock<ObjectSchema> = LazyLock::new(|| ObjectSchema::new(Map::new(), &[]));
    ALL.get(&kind).unwrap_or(&NONE)
}

impl ObjectSchema {
    fn of_kind(kind: ObjectKind) -> Self {
        let tag = |key: &str, word: &str| Map::from_iter([(key.to_owned(), json!({ "const": word }))]);
        let uplink = |own, word| {
            let common = schemars::schema_for!(UplinkSettings);
            let parts = [common, own, schemars::schema_for!(BrokerSettings), schemars::schema_for!(JournalSettings)];
            Self::new(tag("kind", word), &parts)
        };
        let schema = match kind {
            ObjectKind::Gateway => Self::new(Map::new(), &[schemars::schema_for!(GatewaySettings)]),
            ObjectKind::Rate => Self::new(Map::new(), &[schemars::schema_for!(RateSettings)]),
            ObjectKind::Link(word) => {
                let own = Protocol::of_word(word).map(|protocol| protocol.link_keys(word));
                let parts: Vec<_> = std::iter::once(schemars::schema_for!(LinkSettings)).chain(own).collect();
                Self::new(tag("protocol", word), &parts)
            }
            ObjectKind::Device(protocol) => {
                Self::new(Map::new(), &[schemars::schema_for!(DeviceSettings), protocol.device_keys()])
            }
            ObjectKind::SparkplugUplink => uplink(schemars::schema_for!(SparkplugUplink), "sparkplug"),
            ObjectKind::JsonUplink => uplink(schemars::schema_for!(JsonUplink), "json"),
            ObjectKind::Point(protocol) => Self::row([protocol.columns()]),
            ObjectKind::Row => Self::row(Protocol::ALL.map(Protocol::columns)),
        };
        Self { kind: Some(kind), ..schema }
    }

    /// The columns of all points, and those of protocols: some behind the one that they name, those of protocols else behind the type.
    fn row(own: impl IntoIterator<Item = Schema>) -> Self {
        let mut parts: Vec<_> = std::iter::once(schemars::schema_for!(PointSettings)).chain(own).collect();
        let columns: Vec<_> = parts.iter_mut().filter_map(|part| part.remove("properties")).collect();
        let mut columns = columns.iter().filter_map(Value::as_object);
        let is_behind = |(_, column): &(&String, &Value)| column.get("x-behind").is_some();
        let (placed, common): (Vec<_>, Vec<_>) = columns.next().into_iter().flatten().partition(is_behind);
        let own: Vec<_> = placed.into_iter().chain(columns.flatten()).collect();
        let mut joined = Map::new();
        for (key, column) in common {
            joined.insert(key.clone(), column.clone());
            let behind = |column: &Value| column.get("x-behind").and_then(Value::as_str).unwrap_or("type") == key;
            let theirs = own.iter().filter(|(_, column)| behind(column));
            joined.extend(theirs.map(|(key, column)| ((*key).clone(), (*column).clone())));
        }
        parts.push(json_schema!({ "properties": joined }));
        Self::new(Map::new(), &parts)
    }

    /// Joins the schemas of the parts that make up one object, and closes it against unknown keys. The tag says which parts
    /// these are; it stands behind the first.
    pub(super) fn new(tag: Map<String, Value>, parts: &[Schema]) -> Self {
        let (mut properties, mut required, mut definitions) = (Map::new(), Vec::new(), Map::new());
        for (at, part) in parts.iter().enumerate() {
            let object = |key: &str| part.get(key).and_then(Value::as_object).cloned().unwrap_or_default();
            properties.extend(object("properties"));
            definitions.extend(object("$defs"));
            required.extend(part.get("required").and_then(Value::as_array).into_iter().flatten().cloned());
            if at == 0 {
                required.extend(tag.keys().map(|key| json!(key)));
                properties.extend(tag.clone());
            }
        }
        let rules = properties.iter().map(|(key, schema)| Some((key.clone(), KeyRule::new(schema, &definitions)?)));
        let rules: Option<_> = rules.collect();
        debug_assert!(rules.is_some(), "a schema that says more than rules can: {properties:?}");
        let names: Vec<_> = required.iter().filter_map(Value::as_str).map(str::to_owned).collect();
        let document = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": properties,
            "required": required,
            "additionalProperties": false,
            "$defs": definitions,
        });
        Self { document, rules, required: names, kind: None }
    }

    pub(super) const fn document(&self) -> &Value {
        &self.document
    }

    /// Everything that the schema has against an object.
    pub(super) fn faults(&self, object: &Value) -> Vec<Fault> {
        let Some(object) = object.as_object() else {
            return vec![Fault::new("", format!("it is {}", key_rule::shown(object)), "a table")];
        };
        self.faults_of(object.iter().map(|(key, value)| (key.as_str(), Cell::of(value))))
    }

    /// The same, of an object with these keys.
    pub(super) fn faults_of<'a>(&self, cells: impl Iterator<Item = (&'a str, Cell<'a>)>) -> Vec<Fault> {
        let Some(rules) = &self.rules else {
            return vec![Fault::new("", "the schema of this object does not compile", "")];
        };
        let (mut faults, mut said) = (Vec::new(), Vec::new());
        for (key, cell) in cells {
            said.push(key);
            match rules.get(key) {
                // JSON takes 2.0 for a whole number; what reads it does not.
                Some(_) if matches!(cell, Cell::Float(_)) && self.is_whole(key) => {
                    let message = format!("{key} is {}", key_rule::shown(&cell.to_value()));
                    faults.push(Fault::new(key, message, "a whole number, without a point"));
                }
                Some(rule) => faults.extend(rule.faults(key, &cell)),
                None => faults.push(self.unknown_key(key)),
            }
        }
        let missing = self.required.iter().filter(|key| !said.contains(&key.as_str()));
        faults.extend(missing.map(|key| Fault::new("", format!("{key} is missing"), self.purpose(key))));
        faults
    }

    fn unknown_key(&self, key: &str) -> Fault {
        let others = ObjectKind::all().filter(|other| {
            let is_other = self.kind.is_some_and(|kind| kind != *other && kind.class() == other.class());
            is_other && *other != ObjectKind::Row && of(*other).keys().any(|known| known == key)
        });
        let others: Vec<_> = others.map(ObjectKind::words).collect();
        if !others.is_empty() {
            let message = format!("{key} is not for {}", self.kind.map(ObjectKind::words).unwrap_or_default());
            let expected = format!("no {key}; it is for {}", others.join(" or "));
            return Fault { is_about_key: true, ..Fault::new(key, message, expected) };
        }
        let expected = match nearest(key, self.keys()) {
            Some(near) => format!("{near}?"),
            None => format!("one of {}", self.keys().collect::<Vec<_>>().join(", ")),
        };
        Fault { is_about_key: true, ..Fault::new(key, format!("{key} is no known key"), expected) }
    }

    /// The keys in the order of the types: the order in which they are written.
    pub(super) fn keys(&self) -> impl Iterator<Item = &str> {
        self.properties().map(|(key, _)| key.as_str())
    }

    /// The keys that say where it leads.
    pub(super) fn destination(&self) -> impl Iterator<Item = &str> {
        self.properties().filter(|(_, property)| property.get("x-destination").is_some()).map(|(key, _)| key.as_str())
    }

    fn properties(&self) -> impl Iterator<Item = (&String, &Value)> {
        self.document.get("properties").and_then(Value::as_object).into_iter().flatten()
    }

    fn property(&self, key: &str) -> &Value {
        self.document.get("properties").and_then(|properties| properties.get(key)).unwrap_or(&Value::Null)
    }

    /// The default of a key, as the schema states it.
    pub(super) fn default_of(&self, key: &str) -> Option<&Value> {
        self.property(key).get("default")
    }

    /// What the text of a cell is read as; none for what is no key.
    pub(super) fn cell_kind(&self, key: &str) -> Option<CellKind> {
        let is_switch = self.property(key).get("type").and_then(Value::as_str) == Some("boolean");
        Some(match self.keys().find(|known| *known == key)? {
            _ if is_switch => CellKind::Switch,
            key if self.is_whole(key) => CellKind::Whole,
            key if self.is_of_type(key, "number") => CellKind::Number,
            _ => CellKind::Text,
        })
    }

    /// Whether a key takes a whole number.
    pub(super) fn is_whole(&self, key: &str) -> bool {
        self.is_of_type(key, "integer")
    }

    fn is_of_type(&self, key: &str, wanted: &str) -> bool {
        match self.property(key).get("type") {
            Some(Value::String(name)) => name == wanted,
            Some(Value::Array(names)) => names.iter().any(|name| name == wanted),
            _ => false,
        }
    }

    /// Whether most objects leave a key out.
    pub(super) fn is_advanced(&self, key: &str) -> bool {
        self.property(key).get("x-advanced").is_some()
    }

    fn purpose(&self, key: &str) -> String {
        let property = self.property(key);
        match (property.get("description").and_then(Value::as_str), property.get("const")) {
            (Some(text), _) => {
                let sentence = text.split(". ").next().unwrap_or(text).replace('\n', " ");
                format!("{key}: {}", sentence.trim_end_matches('.'))
            }
            (None, Some(word)) => format!("{key} = {word}"),
            (None, None) => key.to_owned(),
        }
    }
}

/// The candidate that a mistyped word most likely meant.
pub(super) fn nearest<'a>(word: &str, candidates: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    candidates
        .map(|candidate| (strsim::damerau_levenshtein(word, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.len() / 5)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}
