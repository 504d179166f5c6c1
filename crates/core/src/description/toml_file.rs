use super::problem::Lines;
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// One table of a TOML file: its values as JSON, and where each stands.
#[derive(Debug)]
pub(super) struct Section {
    pub(super) object: Value,
    header: Range<usize>,
    keys: HashMap<String, (Range<usize>, Range<usize>)>,
}

/// What a TOML file holds at its top: single tables and lists of tables.
#[derive(Debug)]
pub(super) struct TomlFile<'a> {
    lines: Lines<'a>,
    pub(super) entries: Vec<Entry>,
}

#[derive(Debug)]
pub(super) struct Entry {
    pub(super) name: String,
    pub(super) place: (u32, u32),
    pub(super) content: Content,
}

#[derive(Debug)]
pub(super) enum Content {
    Table(Section),
    Tables(Vec<Section>),
    Other,
}

/// A mistake in the TOML itself.
#[derive(Debug)]
pub(super) struct SyntaxError {
    pub(super) place: (u32, u32),
    pub(super) message: String,
}

impl<'a> TomlFile<'a> {
    /// Reads a file, or gives every mistake of syntax in it.
    pub(super) fn parse(text: &'a str) -> Result<Self, Vec<SyntaxError>> {
        let lines = Lines::new(text);
        let (root, errors) = DeTable::parse_recoverable(text);
        if !errors.is_empty() {
            let error = |error: &toml::de::Error| SyntaxError {
                place: lines.place(error.span().map_or(0, |span| span.start)),
                message: error.message().to_owned(),
            };
            return Err(errors.iter().map(error).collect());
        }
        let entries = root.get_ref().iter().map(|(key, value)| Entry {
            name: key.get_ref().to_string(),
            place: lines.place(key.span().start),
            content: content(value),
        });
        let entries = entries.collect();
        Ok(Self { lines, entries })
    }

    /// Where a key of a section stands, or its header when the key is not there or empty.
    pub(super) fn place(&self, section: &Section, key: &str, is_about_the_key: bool) -> (u32, u32) {
        let range = match section.keys.get(key) {
            Some((key_range, _)) if is_about_the_key => key_range,
            Some((_, value_range)) => value_range,
            None => &section.header,
        };
        self.lines.place(range.start)
    }
}

fn content(value: &Spanned<DeValue<'_>>) -> Content {
    match value.get_ref() {
        DeValue::Table(table) => Content::Table(section(table, value.span())),
        DeValue::Array(items) => {
            let tables = items.iter().map(|item| match item.get_ref() {
                DeValue::Table(table) => Some(section(table, item.span())),
                _ => None,
            });
            tables.collect::<Option<_>>().map_or(Content::Other, Content::Tables)
        }
        _ => Content::Other,
    }
}

fn section(table: &DeTable<'_>, header: Range<usize>) -> Section {
    let (mut object, mut keys) = (Map::new(), HashMap::new());
    for (key, value) in table {
        object.insert(key.get_ref().to_string(), json(value.get_ref()));
        keys.insert(key.get_ref().to_string(), (key.span(), value.span()));
    }
    Section { object: Value::Object(object), header, keys }
}

fn json(value: &DeValue<'_>) -> Value {
    match value {
        DeValue::String(text) => Value::from(text.to_string()),
        DeValue::Boolean(bit) => Value::from(*bit),
        DeValue::Integer(integer) => {
            let digits = integer.as_str().replace('_', "");
            i64::from_str_radix(&digits, integer.radix()).map_or_else(|_| Value::from(digits.clone()), Value::from)
        }
        DeValue::Float(float) => {
            let number = float.as_str().replace('_', "").parse::<f64>();
            number.map_or_else(|_| Value::from(float.as_str()), Value::from)
        }
        DeValue::Datetime(datetime) => Value::from(datetime.to_string()),
        DeValue::Array(items) => items.iter().map(|item| json(item.get_ref())).collect(),
        DeValue::Table(table) => {
            Value::Object(table.iter().map(|(key, value)| (key.get_ref().to_string(), json(value.get_ref()))).collect())
        }
    }
}
