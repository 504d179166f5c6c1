use super::problem::Fault;
use super::settings::{DeviceSettings, GatewaySettings, LinkSettings, PointSettings, RateSettings};
use super::uplink::{
    BrokerSettings, BrokerUrl, BrokerUrls, JournalSettings, JsonUplink, SparkplugUplink, UplinkSettings,
};
use super::{Holes, ObjectClass, Protocol, Selection, Span, names};
use crate::{CommandMapping, DataType, Enumeration, Report, TwoEndedSpan};
use jsonschema::error::{TypeKind, ValidationErrorKind};
use jsonschema::{ValidationError, Validator};
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

/// A schema and what the checks and the writer need of it.
#[derive(Debug)]
pub(super) struct ObjectSchema {
    document: Value,
    validator: Option<Validator>,
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

/// Name, check, and what to say when a text does not pass.
type Format = (&'static str, fn(&str) -> bool, &'static str);

/// The texts with a form of their own: name of the format, what is right, and what to say when it is not.
pub(super) const FORMATS: [Format; 16] = [
    ("name", names::is_name, names::NAME_FORM),
    ("point-name", names::is_point_name, names::POINT_NAME_FORM),
    ("span", |text| text.parse::<Span>().is_ok(), Span::FORM),
    ("data-type", |text| text.parse::<DataType>().is_ok(), DATA_TYPE_FORM),
    ("two-ended-span", |text| text.parse::<TwoEndedSpan>().is_ok(), TwoEndedSpan::FORM),
    ("enumeration", |text| text.parse::<Enumeration>().is_ok(), Enumeration::FORM),
    ("report", |text| text.parse::<Report>().is_ok(), REPORT_FORM),
    ("list-path", is_list_path, "a path beside gateway.toml that ends in .csv, such as points/pump.csv"),
    ("holes", |text| text.parse::<Holes>().is_ok(), Holes::FORM),
    (
        "device-path",
        |text| text.starts_with('/') && !text.contains('\0'),
        "the path of a serial port, such as /dev/ttyUSB0",
    ),
    ("secret", |text| !text.is_empty(), "some text"),
    (
        "certificates",
        is_certificates,
        "certificates in PEM, from -----BEGIN CERTIFICATE----- to its END, or file:/PATH",
    ),
    ("broker-url", |text| BrokerUrl::try_from(text.to_owned()).is_ok(), BrokerUrl::FORM),
    ("broker-urls", |text| text.parse::<BrokerUrls>().is_ok(), BrokerUrls::FORM),
    ("command-part", CommandMapping::is_part, CommandMapping::FORM),
    ("selection", |text| text.parse::<Selection>().is_ok(), Selection::FORM),
];

const DATA_TYPE_FORM: &str = "bool, int8, uint8, int16, uint16, int32, uint32, int64, uint64, bcd16, bcd32, bcd64, float16, \
                              float32, float64, or \
                              string(N) or latin1(N) with N from 1 to 250";
const REPORT_FORM: &str = "change, every SPAN, change+every SPAN or never, with SPAN such as 10s";

fn is_certificates(text: &str) -> bool {
    if let Some(path) = text.trim().strip_prefix("file:") {
        return path.starts_with('/') && !path.contains(['\0', '\n']);
    }
    let marks = |mark: &str| text.matches(mark).count();
    let begun = marks("-----BEGIN CERTIFICATE-----");
    begun > 0 && begun == marks("-----END CERTIFICATE-----")
}

/// Paths stay inside the directory of the description, on every system.
fn is_list_path(text: &str) -> bool {
    let is_part = |part: &str| !matches!(part, "" | "." | "..") && !part.contains(['\\', ':', '\0']);
    text.is_empty() || (text.len() <= 200 && text.ends_with(".csv") && text.split('/').all(is_part))
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

    /// The columns of all points, and those of protocols: each behind the one that it names, most behind the type.
    fn row(own: impl IntoIterator<Item = Schema>) -> Self {
        let mut parts: Vec<_> = std::iter::once(schemars::schema_for!(PointSettings)).chain(own).collect();
        let columns: Vec<_> = parts.iter_mut().filter_map(|part| part.remove("properties")).collect();
        let mut columns = columns.iter().filter_map(Value::as_object);
        let common = columns.next().into_iter().flatten();
        let own: Vec<_> = columns.flatten().collect();
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
        let document = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": properties,
            "required": required,
            "additionalProperties": false,
            "$defs": definitions,
        });
        let mut options = jsonschema::options().should_validate_formats(true);
        for (name, is_valid, _) in FORMATS {
            options = options.with_format(name, is_valid);
        }
        let validator = options.build(&document).ok();
        Self { document, validator, kind: None }
    }

    pub(super) const fn document(&self) -> &Value {
        &self.document
    }

    /// Everything that the schema has against an object.
    pub(super) fn faults(&self, object: &Value) -> Vec<Fault> {
        let Some(validator) = &self.validator else {
            return vec![Fault::new("", "the schema of this object does not compile", "")];
        };
        validator.iter_errors(object).flat_map(|error| self.explain(&error)).collect()
    }

    fn explain(&self, error: &ValidationError<'_>) -> Vec<Fault> {
        let path = error.instance_path().to_string();
        let key = path.trim_start_matches('/');
        let fault = |expected: String| vec![Fault::new(key, format!("{key} is {}", shown(error.instance())), expected)];
        match error.kind() {
            ValidationErrorKind::AdditionalProperties { unexpected } => {
                unexpected.iter().map(|key| self.unknown_key(key)).collect()
            }
            ValidationErrorKind::Required { property } => {
                let key = property.as_str().unwrap_or_default();
                vec![Fault::new("", format!("{key} is missing"), self.purpose(key))]
            }
            ValidationErrorKind::Format { format } if format == "certificates" => {
                // What stands there may be a key that came to the wrong place.
                let expected = FORMATS.iter().find(|(name, ..)| name == format).map_or("", |(_, _, form)| form);
                vec![Fault::new(key, format!("{key} is no text in the form that it needs"), expected)]
            }
            ValidationErrorKind::Format { format } => {
                let known = FORMATS.iter().find(|(name, ..)| name == format);
                fault(known.map_or_else(|| format.clone(), |(_, _, form)| (*form).to_owned()))
            }
            ValidationErrorKind::Type { kind } => fault(type_words(kind)),
            ValidationErrorKind::Minimum { limit } => fault(format!("{limit} or more")),
            ValidationErrorKind::Maximum { limit } => fault(format!("{limit} or less")),
            ValidationErrorKind::MinLength { .. } => fault("some text".to_owned()),
            ValidationErrorKind::Enum { options } => fault(format!("one of {}", listed(options))),
            ValidationErrorKind::Constant { expected_value } => fault(expected_value.to_string()),
            // schemars writes an enumeration whose variants have docs as a choice between constants.
            ValidationErrorKind::OneOfNotValid { .. } => fault(format!("one of {}", self.choices(key))),
            _ => fault(error.to_string()),
        }
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

    /// Whether a key takes a number, so that the text of a cell has to be read as one.
    pub(super) fn is_number(&self, key: &str) -> bool {
        match self.property(key).get("type") {
            Some(Value::String(name)) => name == "number" || name == "integer",
            Some(Value::Array(names)) => names.iter().any(|name| name == "number" || name == "integer"),
            _ => false,
        }
    }

    /// Whether a key takes true or false.
    pub(super) fn is_switch(&self, key: &str) -> bool {
        self.property(key).get("type").and_then(Value::as_str) == Some("boolean")
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

    fn choices(&self, key: &str) -> String {
        let reference = self.property(key).get("$ref").and_then(Value::as_str).unwrap_or_default();
        let definition = reference
            .strip_prefix("#/$defs/")
            .and_then(|name| self.document.get("$defs")?.get(name))
            .unwrap_or_else(|| self.property(key));
        let constants = definition.get("oneOf").and_then(Value::as_array).into_iter().flatten();
        listed(&constants.filter_map(|choice| choice.get("const").cloned()).collect())
    }
}

fn type_words(kind: &TypeKind) -> String {
    let word = |name: &str| match name {
        "integer" => "a whole number",
        "number" => "a number",
        "string" => "text in quotes",
        "boolean" => "true or false",
        "array" => "a list",
        _ => "a table",
    };
    match kind {
        TypeKind::Single(name) => word(name.as_str()).to_owned(),
        TypeKind::Multiple(names) => {
            let names = names.iter().map(|name| name.as_str().to_owned());
            let words: Vec<_> = names.filter(|name| name != "null").map(|name| word(&name)).collect();
            words.join(" or ")
        }
    }
}

fn listed(options: &Value) -> String {
    let options = options.as_array().into_iter().flatten();
    options.map(|option| option.as_str().unwrap_or_default()).collect::<Vec<_>>().join(", ")
}

/// A value as a message shows it: text in quotes, and not more of it than fits a line.
fn shown(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(60) {
        Some((end, _)) => format!("{}…", text.get(..end).unwrap_or_default()),
        None => text,
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
