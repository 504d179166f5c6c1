//! Rows of point lists as somebody wrote them, each in one piece of memory: a large description has a million of them.

use super::schema::{self, ObjectKind};
use foldhash::HashMap;
use serde::de::value::{MapDeserializer, StrDeserializer};
use serde::de::{DeserializeOwned, IntoDeserializer, Visitor};
use serde::{Deserializer, forward_to_deserialize_any};
use serde_json::{Map, Number, Value};
use std::borrow::Cow;
use std::fmt;
use std::sync::LazyLock;

/// A row of a point list: its cells by the keys of points, which may be wrong or missing.
///
/// They stand one behind the other, in the order of the columns, what is no column behind them: so rows are the same when their
/// bytes are. A cell is its column, or [`OTHER_KEY`] and a key, then what it is, and what it has.
#[derive(Clone, PartialEq, Eq, Default)]
pub struct Row(Box<[u8]>);

/// What a cell of a row has.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell<'a> {
    /// Nothing.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number that is not negative.
    Uint(u64),
    /// A negative whole number.
    Int(i64),
    /// A number with a point.
    Float(f64),
    /// Text.
    Text(&'a str),
    /// What no cell should have: an array or an object, as JSON.
    Other(Cow<'a, str>),
}

/// In place of a column: a key follows that is none.
const OTHER_KEY: u8 = u8::MAX;

const NULL: u8 = 0;
const FALSE: u8 = 1;
const TRUE: u8 = 2;
const UINT: u8 = 3;
const INT: u8 = 4;
const FLOAT: u8 = 5;
const TEXT: u8 = 6;
const OTHER: u8 = 7;

/// The keys of points, and the place of each.
struct Columns {
    keys: Vec<&'static str>,
    places: HashMap<&'static str, u8>,
}

static COLUMNS: LazyLock<Columns> = LazyLock::new(|| {
    let keys: Vec<_> = schema::of(ObjectKind::Row).keys().take(usize::from(OTHER_KEY)).collect();
    let places = keys.iter().copied().zip(0..).collect();
    Columns { keys, places }
});

impl Row {
    /// A row of an object; none of what is no object.
    #[must_use]
    pub fn of(content: &Value) -> Option<Self> {
        content.as_object().map(Self::from)
    }

    fn new<'a>(cells: impl Iterator<Item = (&'a str, Cell<'a>)>) -> Self {
        let mut cells: Vec<_> =
            cells.map(|(key, cell)| (COLUMNS.places.get(key).copied().unwrap_or(OTHER_KEY), key, cell)).collect();
        // Of several cells of one key the last one counts.
        cells.reverse();
        cells.sort_by_key(|(column, key, _)| (*column, *key));
        cells.dedup_by_key(|(column, key, _)| (*column, *key));
        let mut bytes = Vec::with_capacity(128);
        for (column, key, cell) in cells {
            bytes.push(column);
            if column == OTHER_KEY {
                put_text(&mut bytes, key);
            }
            cell.put(&mut bytes);
        }
        Self(bytes.into())
    }

    /// Its cells, by their keys.
    pub fn cells(&self) -> impl Iterator<Item = (&str, Cell<'_>)> {
        let mut rest = &*self.0;
        std::iter::from_fn(move || {
            let key = match byte(&mut rest)? {
                OTHER_KEY => text(&mut rest)?,
                column => COLUMNS.keys.get(usize::from(column))?,
            };
            Some((key, Cell::take(&mut rest)?))
        })
    }

    /// What it has of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<Cell<'_>> {
        self.cells().find(|(known, _)| *known == key).map(|(_, cell)| cell)
    }

    /// The text that it has of a key.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<&str> {
        self.get(key)?.as_str()
    }

    /// Its name; empty when it has none.
    #[must_use]
    pub fn name(&self) -> &str {
        self.text("name").unwrap_or_default()
    }

    /// Whether it has no cells.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The row as an object.
    #[must_use]
    pub fn to_map(&self) -> Map<String, Value> {
        self.cells().map(|(key, cell)| (key.to_owned(), cell.to_value())).collect()
    }

    /// The row as JSON.
    #[must_use]
    pub fn to_value(&self) -> Value {
        Value::Object(self.to_map())
    }

    /// Reads what a type has of it, and passes over the rest.
    pub(super) fn read<T: DeserializeOwned>(&self) -> Option<T> {
        T::deserialize(MapDeserializer::<_, serde_json::Error>::new(self.cells())).ok()
    }
}

impl From<&Map<String, Value>> for Row {
    fn from(object: &Map<String, Value>) -> Self {
        Self::new(object.iter().map(|(key, value)| (key.as_str(), Cell::of(value))))
    }
}

impl<'a> FromIterator<(&'a str, Cell<'a>)> for Row {
    /// Of several cells of one key the last one counts.
    fn from_iter<I: IntoIterator<Item = (&'a str, Cell<'a>)>>(cells: I) -> Self {
        Self::new(cells.into_iter())
    }
}

impl fmt::Debug for Row {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.cells()).finish()
    }
}

impl<'a> Cell<'a> {
    /// That of a value.
    #[must_use]
    pub fn of(value: &'a Value) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Bool(bit) => Self::Bool(*bit),
            Value::Number(number) => match (number.as_u64(), number.as_i64()) {
                (Some(uint), _) => Self::Uint(uint),
                (None, Some(int)) => Self::Int(int),
                (None, None) => number.as_f64().map_or(Self::Null, Self::Float),
            },
            Value::String(text) => Self::Text(text),
            Value::Array(_) | Value::Object(_) => Self::Other(value.to_string().into()),
        }
    }

    /// It as JSON.
    #[must_use]
    pub fn to_value(&self) -> Value {
        match self {
            Self::Null => Value::Null,
            Self::Bool(bit) => Value::Bool(*bit),
            Self::Uint(uint) => Value::from(*uint),
            Self::Int(int) => Value::from(*int),
            Self::Float(float) => Number::from_f64(*float).map_or(Value::Null, Value::Number),
            Self::Text(text) => Value::from(*text),
            Self::Other(json) => serde_json::from_str(json).unwrap_or_default(),
        }
    }

    /// Its text.
    #[must_use]
    pub const fn as_str(&self) -> Option<&'a str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Its number.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "as JSON does")]
    pub const fn as_f64(&self) -> Option<f64> {
        match self {
            Self::Uint(uint) => Some(*uint as f64),
            Self::Int(int) => Some(*int as f64),
            Self::Float(float) => Some(*float),
            _ => None,
        }
    }

    /// Whether it has nothing.
    #[must_use]
    pub const fn is_null(&self) -> bool {
        matches!(self, Self::Null)
    }

    fn put(&self, out: &mut Vec<u8>) {
        match self {
            Self::Null => out.push(NULL),
            Self::Bool(false) => out.push(FALSE),
            Self::Bool(true) => out.push(TRUE),
            Self::Uint(uint) => put_number(out, UINT, uint.to_le_bytes()),
            Self::Int(int) => put_number(out, INT, int.to_le_bytes()),
            Self::Float(float) => put_number(out, FLOAT, float.to_le_bytes()),
            Self::Text(text) => {
                out.push(TEXT);
                put_text(out, text);
            }
            Self::Other(json) => {
                out.push(OTHER);
                put_text(out, json);
            }
        }
    }

    fn take(rest: &mut &'a [u8]) -> Option<Self> {
        Some(match byte(rest)? {
            FALSE => Self::Bool(false),
            TRUE => Self::Bool(true),
            UINT => Self::Uint(u64::from_le_bytes(number(rest)?)),
            INT => Self::Int(i64::from_le_bytes(number(rest)?)),
            FLOAT => Self::Float(f64::from_le_bytes(number(rest)?)),
            TEXT => Self::Text(text(rest)?),
            OTHER => Self::Other(text(rest)?.into()),
            _ => Self::Null,
        })
    }
}

impl<'de> IntoDeserializer<'de, serde_json::Error> for Cell<'de> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for Cell<'de> {
    type Error = serde_json::Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        match self {
            Self::Null => visitor.visit_unit(),
            Self::Bool(bit) => visitor.visit_bool(bit),
            Self::Uint(uint) => visitor.visit_u64(uint),
            Self::Int(int) => visitor.visit_i64(int),
            Self::Float(float) => visitor.visit_f64(float),
            Self::Text(text) => visitor.visit_borrowed_str(text),
            Self::Other(_) => self.to_value().deserialize_any(visitor),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        match self {
            Self::Null => visitor.visit_none(),
            some => visitor.visit_some(some),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(self, _: &'static str, visitor: V) -> Result<V::Value, Self::Error> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        match self {
            Self::Text(text) => StrDeserializer::new(text).deserialize_enum(name, variants, visitor),
            other => other.to_value().deserialize_enum(name, variants, visitor),
        }
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple
        tuple_struct map struct identifier ignored_any
    }
}

fn put_number(out: &mut Vec<u8>, kind: u8, bytes: [u8; 8]) {
    out.push(kind);
    out.extend(bytes);
}

/// The length in groups of seven bits, the lowest first, each but the last with the highest bit set; then the text.
fn put_text(out: &mut Vec<u8>, text: &str) {
    let mut length = text.len();
    while length > 0x7F {
        out.push(group(length) | 0x80);
        length >>= 7;
    }
    out.push(group(length));
    out.extend(text.as_bytes());
}

fn group(length: usize) -> u8 {
    u8::try_from(length & 0x7F).unwrap_or_default()
}

fn byte(rest: &mut &[u8]) -> Option<u8> {
    let (first, behind) = rest.split_first()?;
    *rest = behind;
    Some(*first)
}

fn number(rest: &mut &[u8]) -> Option<[u8; 8]> {
    let (bytes, behind) = rest.split_first_chunk()?;
    *rest = behind;
    Some(*bytes)
}

fn text<'a>(rest: &mut &'a [u8]) -> Option<&'a str> {
    let (mut length, mut shift) = (0, 0);
    loop {
        let group = byte(rest)?;
        length |= usize::from(group & 0x7F) << shift;
        if group & 0x80 == 0 {
            break;
        }
        shift += 7;
    }
    let (bytes, behind) = rest.split_at_checked(length)?;
    *rest = behind;
    std::str::from_utf8(bytes).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde::Deserialize;
    use serde_json::json;

    fn value() -> impl Strategy<Value = Value> {
        let whole = prop_oneof![any::<u64>().prop_map(Value::from), any::<i64>().prop_map(Value::from)];
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            whole,
            any::<f64>().prop_filter("JSON has no others", |float| float.is_finite()).prop_map(Value::from),
            ".{0,200}".prop_map(Value::from),
        ];
        leaf.prop_recursive(2, 8, 4, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
                proptest::collection::hash_map(".{0,8}", inner, 0..4)
                    .prop_map(|object| Value::Object(object.into_iter().collect())),
            ]
        })
    }

    fn key() -> impl Strategy<Value = String> {
        let known: Vec<_> = COLUMNS.keys.iter().map(|key| (*key).to_owned()).collect();
        prop_oneof![4 => proptest::sample::select(known), 1 => ".{0,150}"]
    }

    proptest! {
        #[test]
        fn rows_come_back_as_they_went_in_and_are_the_same_in_any_order(
            cells in proptest::collection::hash_map(key(), value(), 0..12),
        ) {
            let object: Map<_, _> = cells.into_iter().collect();
            let row = Row::from(&object);
            prop_assert_eq!(&row.to_map(), &object);
            let turned: Map<_, _> = object.iter().rev().map(|(key, value)| (key.clone(), value.clone())).collect();
            prop_assert_eq!(Row::from(&turned), row.clone());
            for (key, value) in &object {
                let cell = row.get(key).map(|cell| cell.to_value());
                prop_assert_eq!(cell.as_ref(), Some(value));
            }
            prop_assert_eq!(row.get("no such key\u{0}"), None);
        }
    }

    #[test]
    fn types_read_of_a_row_what_they_read_of_its_object() {
        #[derive(Debug, PartialEq, Deserialize)]
        #[serde(rename_all = "lowercase")]
        enum Word {
            Read,
        }
        #[derive(Debug, PartialEq, Deserialize)]
        struct Part {
            name: String,
            scale: f64,
            low: Option<f64>,
            high: Option<f64>,
            priority: Option<u8>,
            access: Word,
            clamp: bool,
            #[serde(flatten)]
            more: Map<String, Value>,
        }
        let right = json!({ "name": "flow", "scale": 2, "low": null, "priority": 8, "access": "read", "clamp": true, "x": [1, "a"] });
        let of = |value: &Value| {
            (Row::of(value).unwrap().read::<Part>(), serde_json::from_value::<Part>(value.clone()).ok())
        };
        let (row, object) = of(&right);
        assert!(row.is_some() && row == object, "{row:?}");
        for (key, wrong) in [
            ("scale", json!("2")),
            ("priority", json!(-1)),
            ("priority", json!(8.0)),
            ("access", json!("no")),
            ("access", json!(1)),
            ("name", Value::Null),
        ] {
            let mut value = right.clone();
            value[key] = wrong;
            assert_eq!(of(&value), (None, None), "{value}");
        }
    }
}
