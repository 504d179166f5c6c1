//! Lists as they stand in manuals and spreadsheets: which column means what, and the trade's words for what stands in the cells.

use super::names::is_point_name;
use super::problem::Fault;
use super::row::Row;
use super::schema::{ObjectSchema, nearest};
use crate::{NameCase, NameRule};
use serde::Serialize;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, HashSet};

/// What was made of a column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct SheetColumn {
    /// Its heading.
    pub heading: String,
    /// The key of points that it is; `null` where it is left out.
    pub key: Option<String>,
    /// What stands in its first cells.
    pub example: String,
}

/// What is said of a list beside its cells.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SheetWishes {
    /// The keys that columns are, by their headings; empty where one is left out. What is not named is found by its heading.
    pub columns: BTreeMap<String, String>,
    /// The rate of rows that have none.
    pub rate: Option<String>,
    /// What plain numbers are addresses of, such as `holding`.
    pub table: Option<String>,
}

/// Headings that mean a key, without what is no letter and no digit. The key itself is one of them.
const HEADINGS: &[(&str, &[&str])] = &[
    (
        "name",
        &["tag", "tagname", "signal", "signalname", "pointname", "symbol", "variable", "parameter", "designation"],
    ),
    (
        "address",
        &[
            "register",
            "registeraddress",
            "registernumber",
            "reg",
            "regaddr",
            "modbusaddress",
            "modbusregister",
            "addr",
            "node",
            "nodeid",
            "object",
            "objectid",
            "index",
            "pointindex",
        ],
    ),
    ("type", &["datatype", "format", "dataformat", "registertype", "valuetype"]),
    ("unit", &["units", "eu", "engunit", "engunits", "engineeringunit", "engineeringunits", "uom", "dimension"]),
    ("scale", &["factor", "gain", "multiplier", "scaling", "scalefactor", "resolution"]),
    ("offset", &["bias", "zero"]),
    ("title", &["description", "desc", "text", "label", "comment", "remark", "remarks", "meaning", "quantity"]),
    ("rate", &["scanrate", "pollrate", "cycle", "interval", "pollinterval"]),
    ("low", &["min", "minimum", "lower", "lowerlimit", "rangelow", "rangemin"]),
    ("high", &["max", "maximum", "upper", "upperlimit", "rangehigh", "rangemax"]),
    ("order", &["wordorder", "byteorder", "endianness", "byteandwordorder"]),
    ("access", &["rw", "readwrite", "accessrights", "mode", "direction"]),
    ("words", &["states", "enumeration", "enum", "values", "statetexts"]),
];

fn plain(text: &str) -> String {
    text.chars().filter(|letter| letter.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

/// The key that a heading means.
fn meaning<'a>(heading: &str, schema: &'a ObjectSchema) -> Option<&'a str> {
    let wanted = plain(heading);
    let is_own = |key: &&str| plain(key) == wanted;
    let known = |key: &str| schema.keys().find(|known| *known == key);
    let by_word =
        || HEADINGS.iter().find(|(_, words)| words.contains(&wanted.as_str())).and_then(|(key, _)| known(key));
    schema.keys().find(is_own).or_else(by_word)
}

/// What each heading is: as it is wished, or as it is understood. A key is that of one column.
pub(super) fn keys(headings: &[String], schema: &ObjectSchema, wishes: &SheetWishes) -> Vec<Option<String>> {
    let wished: Vec<_> = headings.iter().map(|heading| wishes.columns.get(heading)).collect();
    let mut taken: HashSet<String> = wished.iter().flatten().map(|key| (*key).clone()).collect();
    // What is called like a key goes before what only means it.
    let mut keys: Vec<Option<String>> = wished.iter().map(|key| key.filter(|key| !key.is_empty()).cloned()).collect();
    for is_exact in [true, false] {
        for ((heading, key), wished) in headings.iter().zip(&mut keys).zip(&wished) {
            let found = meaning(heading, schema).filter(|found| !is_exact || plain(found) == plain(heading));
            if let Some(found) = found.filter(|_| wished.is_none() && key.is_none())
                && taken.insert(found.to_owned())
            {
                *key = Some(found.to_owned());
            }
        }
    }
    keys
}

/// What is wrong with what columns are to be: no key of points, or one that another column is, too.
pub(super) fn wrong(columns: &[SheetColumn], schema: &ObjectSchema) -> Vec<Fault> {
    let mut faults = Vec::new();
    for (at, SheetColumn { heading, key, .. }) in columns.iter().enumerate() {
        let Some(key) = key else { continue };
        if !schema.keys().any(|known| known == key) {
            let near = nearest(key, schema.keys()).map(|near| format!("{near}?"));
            let all = || format!("one of {}", schema.keys().collect::<Vec<_>>().join(", "));
            faults.push(Fault::new("", format!("column {heading:?} cannot be {key:?}"), near.unwrap_or_else(all)));
        } else if let Some(other) = columns.iter().take(at).find(|other| other.key.as_ref() == Some(key)) {
            let message = format!("columns {:?} and {heading:?} are both {key}", other.heading);
            faults.push(Fault::new("", message, "one of them, and the other one left out"));
        }
    }
    faults
}

/// A data type by the words of the trade and of IEC 61131-3.
fn data_type(cell: &str) -> Option<String> {
    let text: String =
        cell.chars().filter(|letter| !letter.is_whitespace() && *letter != '_' && *letter != '-').collect();
    let text = text.to_lowercase();
    let known = match text.as_str() {
        "bool" | "boolean" | "bit" | "binary" | "digital" | "discrete" => "bool",
        "sint" | "int8" | "i8" | "s8" => "int8",
        "usint" | "byte" | "uint8" | "u8" => "uint8",
        "half" | "float16" | "f16" | "real16" => "float16",
        "bcd" | "bcd16" => "bcd16",
        "bcd32" => "bcd32",
        "int" | "int16" | "i16" | "s16" | "sint16" | "short" | "signed16" | "16bitint" | "signed16bit" => "int16",
        "uint" | "word" | "uint16" | "u16" | "ushort" | "unsigned16" | "16bituint" | "unsigned16bit" => "uint16",
        "dint" | "int32" | "i32" | "s32" | "sint32" | "long" | "signed32" | "32bitint" | "signed32bit" => "int32",
        "udint" | "dword" | "uint32" | "u32" | "ulong" | "unsigned32" | "32bituint" | "unsigned32bit" => "uint32",
        "lint" | "int64" | "i64" | "s64" | "longlong" | "signed64" | "signed64bit" => "int64",
        "ulint" | "lword" | "uint64" | "u64" | "ulonglong" | "unsigned64" | "unsigned64bit" => "uint64",
        "real" | "float" | "float32" | "f32" | "single" | "real32" | "ieee754" | "32bitfloat" | "ieee32" => "float32",
        "lreal" | "double" | "float64" | "f64" | "real64" | "64bitfloat" | "ieee64" => "float64",
        "auto" => "auto",
        other => {
            let number = other.strip_prefix("string")?.trim_matches(['(', ')', '[', ']']).parse::<u16>().ok()?;
            return Some(format!("string({number})"));
        }
    };
    Some(known.to_owned())
}

fn access(cell: &str) -> Option<&'static str> {
    match plain(cell).as_str() {
        "r" | "ro" | "read" | "readonly" | "input" => Some("read"),
        "rw" | "w" | "wo" | "write" | "readwrite" | "writeonly" | "output" => Some("read-write"),
        _ => None,
    }
}

/// What a cell of a column means; as it stands where nothing else is known.
fn cell(key: &str, text: &str) -> Option<String> {
    match key {
        "type" => data_type(text),
        "access" => access(text).map(str::to_owned),
        _ => None,
    }
}

/// What is missing in rows, and was not said for all of them either.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Missing {
    pub(super) rates: usize,
    pub(super) tables: usize,
}

/// Rows as points have them. What a row says of a point that is known goes over what that has; `has_rate` tells which have a rate.
pub(super) fn understand(rows: &mut [Row], wishes: &SheetWishes, has_rate: impl Fn(&str) -> bool) -> Missing {
    let mut missing = Missing::default();
    let mut names: HashSet<String> = HashSet::new();
    for whole in rows {
        let mut object = whole.to_map();
        let row = &mut object;
        for (key, value) in row.iter_mut() {
            if let Some(known) = value.as_str().and_then(|text| cell(key, text)) {
                *value = Value::from(known);
            }
        }
        name_it(row, &mut names);
        let is_plain =
            |text: &str| !text.is_empty() && text.len() <= 5 && text.bytes().all(|digit| digit.is_ascii_digit());
        // Five digits that begin with the digit of a table are reference numbers.
        let is_reference = |text: &str| text.len() == 5 && text.starts_with(['0', '1', '3', '4']);
        let number = row.get("address").and_then(Value::as_str).filter(|text| is_plain(text) && !is_reference(text));
        match (number.map(str::to_owned), &wishes.table) {
            (Some(number), Some(table)) => {
                row.insert("address".to_owned(), Value::from(format!("{table}:{number}")));
            }
            (Some(_), None) => missing.tables += 1,
            (None, _) => {}
        }
        let name = row.get("name").and_then(Value::as_str).unwrap_or_default();
        if !row.contains_key("rate") && !has_rate(name) {
            match &wishes.rate {
                Some(rate) => _ = row.insert("rate".to_owned(), Value::from(rate.as_str())),
                None => missing.rates += 1,
            }
        }
        *whole = Row::from(&object);
    }
    missing
}

/// A row without a name is called by its title; what cannot be a name becomes the title, and the name is made of it.
fn name_it(row: &mut Map<String, Value>, names: &mut HashSet<String>) {
    let text =
        |row: &Map<String, Value>, key: &str| row.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let (name, title) = (text(row, "name"), text(row, "title"));
    if is_point_name(&name) && !name.is_empty() {
        names.insert(name.to_lowercase());
        return;
    }
    let from = if name.is_empty() { title.clone() } else { name };
    let rule = NameRule { case: NameCase::Kebab, ..NameRule::default() };
    let made: String = rule.name(std::slice::from_ref(&from)).chars().take(60).collect();
    let made = made.trim_matches(['-', ' ', '/']).to_owned();
    if made.is_empty() || !is_point_name(&made) {
        return;
    }
    if title.is_empty() {
        row.insert("title".to_owned(), Value::from(from));
    }
    let numbered = (1_u32..).map(|number| if number == 1 { made.clone() } else { format!("{made}-{number}") });
    let mut numbered = numbered.skip_while(|name| names.contains(name));
    if let Some(name) = numbered.next() {
        names.insert(name.clone());
        row.insert("name".to_owned(), Value::from(name));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::schema::{self, ObjectKind};
    use serde_json::json;

    #[test]
    fn headings_mean_keys_in_any_case_and_each_key_once() {
        let headings = ["Register", "Data type", "DESCRIPTION", "Tag Name", "Remark", "Factor", "Unit", "Page"];
        let headings: Vec<_> = headings.iter().map(|&heading| heading.to_owned()).collect();
        let schema = schema::of(ObjectKind::Row);
        let keys = |wishes: &SheetWishes| {
            let keys = keys(&headings, schema, wishes);
            keys.iter().map(|key| key.clone().unwrap_or_else(|| "-".to_owned())).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(keys(&SheetWishes::default()), "address type title name - scale unit -");
        let columns = [("Remark", "title"), ("DESCRIPTION", ""), ("Page", "low")];
        let columns = columns.map(|(heading, key)| (heading.to_owned(), key.to_owned())).into();
        assert_eq!(
            keys(&SheetWishes { columns, ..SheetWishes::default() }),
            "address type - name title scale unit low"
        );
        let column = |heading: &str, key: &str| SheetColumn {
            heading: heading.to_owned(),
            key: Some(key.to_owned()),
            example: String::new(),
        };
        let faults = wrong(&[column("A", "scale"), column("B", "scale"), column("C", "titel")], schema);
        let told: Vec<_> = faults.iter().map(|fault| (fault.message.as_str(), fault.expected.as_str())).collect();
        let both = ("columns \"A\" and \"B\" are both scale", "one of them, and the other one left out");
        assert_eq!(told, [both, ("column \"C\" cannot be \"titel\"", "title?")]);
    }

    #[test]
    fn types_are_read_in_the_words_of_the_trade() {
        for (words, expected) in [
            ("INT16 INT Short signed16", "int16"),
            ("WORD UINT UINT16 U16", "uint16"),
            ("REAL FLOAT Float32 SINGLE", "float32"),
            ("UDINT DWORD", "uint32"),
            ("LREAL Double", "float64"),
            ("STRING[16] string(16)", "string(16)"),
        ] {
            assert!(words.split(' ').all(|word| data_type(word).as_deref() == Some(expected)), "{words}");
        }
        assert_eq!(data_type("time of day"), None, "what is not known stays as it is, and is a mistake then");
    }

    #[test]
    fn rows_get_names_of_their_titles_and_what_is_missing_is_asked_once_for_all() {
        let mut rows = [
            json!({ "title": "Gas flow, raw", "address": "100", "type": "REAL" }),
            json!({ "title": "Gas flow raw", "address": "40103", "type": "real", "rate": "slow" }),
            json!({ "name": "CH4 #1", "address": "input:4", "access": "R/W" }),
        ]
        .map(|row| Row::of(&row).unwrap());
        let missing = understand(&mut rows, &SheetWishes::default(), |_| false);
        assert_eq!(missing, Missing { rates: 2, tables: 1 });
        let wishes =
            SheetWishes { rate: Some("fast".to_owned()), table: Some("input".to_owned()), ..SheetWishes::default() };
        assert_eq!(understand(&mut rows, &wishes, |_| false), Missing::default());
        let names: Vec<_> = rows.iter().map(Row::name).collect();
        let rows = rows.each_ref().map(Row::to_value);
        assert_eq!(names[..2], ["gas-flow-raw", "gas-flow-raw-2"]);
        assert_eq!((&rows[0]["address"], &rows[1]["address"]), (&json!("input:100"), &json!("40103")));
        assert_eq!(
            (&rows[0]["rate"], &rows[1]["rate"], &rows[0]["type"]),
            (&json!("fast"), &json!("slow"), &json!("float32"))
        );
        assert_eq!((&rows[2]["title"], &rows[2]["access"]), (&json!("CH4 #1"), &json!("read-write")));
    }
}
