use super::draft::{Draft, name_of};
use super::problem::Problem;
use super::{Files, MAIN_FILE, parse};
use serde_json::{Map, Value};
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table};

/// Brings files that people write up to a description, in place: what means the same stays as it stands, comments,
/// order and spacing included.
///
/// # Errors
/// The mistakes of files that cannot be taken apart; overwrite those with [`Draft::to_files`].
pub fn update(files: &Files, after: &Draft) -> Result<Files, Vec<Problem>> {
    let before = parse(files)?.canonical();
    let mut written = after.to_files();
    for (path, text) in &mut written {
        let rows = |draft: &'_ Draft| draft.lists.get(path).cloned().unwrap_or_default();
        match files.get(path) {
            Some(existing) if path == MAIN_FILE => *text = main_file(existing, &before, after),
            Some(existing) if rows(&before) == rows(after) => text.clone_from(existing),
            _ => {}
        }
    }
    Ok(written)
}

fn main_file(text: &str, before: &Draft, after: &Draft) -> String {
    // It was parsed a moment ago.
    let Ok(mut document) = text.parse::<DocumentMut>() else { return text.to_owned() };
    if let Some(table) = table(&mut document, "gateway") {
        edit(table, &before.gateway, &after.gateway);
    }
    if before.rates != after.rates
        && let Some(table) = table(&mut document, "rates")
    {
        edit(table, &before.rates, &after.rates);
    }
    let lists = [
        ("link", &before.links, &after.links),
        ("device", &before.devices, &after.devices),
        ("uplink", &before.uplinks, &after.uplinks),
    ];
    for (key, before, after) in lists {
        if before != after {
            tables(&mut document, key, before, after);
        }
    }
    document.to_string()
}

fn table<'a>(document: &'a mut DocumentMut, key: &str) -> Option<&'a mut Table> {
    document.entry(key).or_insert_with(|| Item::Table(Table::new())).as_table_mut()
}

/// Edits the list of tables `key`, each known by its name.
fn tables(document: &mut DocumentMut, key: &str, before: &[Value], after: &[Value]) {
    let list = document.entry(key).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let Some(list) = list.as_array_of_tables_mut() else { return };
    list.retain(|table| after.iter().any(|object| name_of(object) == name(table)));
    for object in after {
        let Some(new) = object.as_object() else { continue };
        let known = list.iter_mut().find(|table| name(table) == name_of(object));
        let old = before.iter().find(|known| name_of(known) == name_of(object)).and_then(Value::as_object);
        match known {
            Some(table) => edit(table, old.unwrap_or(&Map::new()), new),
            None => {
                let mut table = Table::new();
                edit(&mut table, &Map::new(), new);
                list.push(table);
            }
        }
    }
    if list.is_empty() {
        document.remove(key);
    }
}

fn name(table: &Table) -> &str {
    table.get("name").and_then(Item::as_str).unwrap_or_default()
}

/// Writes what differs; a key whose value stays keeps its own way of writing it, and its comment.
fn edit(table: &mut Table, before: &Map<String, Value>, after: &Map<String, Value>) {
    for (key, value) in after {
        if before.get(key) == Some(value) && table.contains_key(key) {
            continue;
        }
        let Some(new) = toml_value(value) else { continue };
        match table.get_mut(key).and_then(Item::as_value_mut) {
            Some(known) => {
                let decor = known.decor().clone();
                *known = new;
                *known.decor_mut() = decor;
            }
            None => {
                table.insert(key, Item::Value(new));
            }
        }
    }
    for key in before.keys().filter(|key| !after.contains_key(*key)) {
        table.remove(key);
    }
}

fn toml_value(value: &Value) -> Option<toml_edit::Value> {
    match value {
        Value::Bool(bit) => Some((*bit).into()),
        Value::String(text) => Some(text.as_str().into()),
        Value::Number(number) => number.as_i64().map(Into::into).or_else(|| number.as_f64().map(Into::into)),
        Value::Null | Value::Array(_) | Value::Object(_) => None,
    }
}
