use super::schema::{self, ObjectKind};
use super::{Description, Device, DeviceProtocol, Files, LinkProtocol, MAIN_FILE, Point};
use serde::Serialize;
use serde_json::{Map, Value};
use std::fmt::Write as _;

/// Writes a description as files: always the same bytes for the same description.
///
/// Keys and columns stand in the order of the types; what has its default value is left out.
#[must_use]
pub fn write(description: &Description) -> Files {
    let mut main = String::from("[gateway]\n");
    keys(&mut main, ObjectKind::Gateway, &[&object(&description.gateway)]);
    if !description.rates.is_empty() {
        main.push_str("\n[rates]\n");
        for (name, span) in &description.rates {
            entry(&mut main, name.as_str(), &Value::from(span.to_string()));
        }
    }
    for link in &description.links {
        main.push_str("\n[[link]]\n");
        let LinkProtocol::ModbusTcp(modbus) = &link.protocol;
        let protocol = Value::from_iter([("protocol", link.protocol.word())]);
        keys(&mut main, ObjectKind::ModbusTcpLink, &[&object(&link.settings), &object(&protocol), &object(modbus)]);
    }
    let mut files = Files::new();
    for device in &description.devices {
        main.push_str("\n[[device]]\n");
        let DeviceProtocol::Modbus(modbus) = &device.protocol;
        let mut settings = object(&device.settings);
        let path = points_path(device, &mut files);
        settings.insert("points".to_owned(), Value::from(path));
        keys(&mut main, ObjectKind::ModbusDevice, &[&settings, &object(modbus)]);
    }
    for uplink in &description.uplinks {
        main.push_str("\n[[uplink]]\n");
        let kind = Value::from_iter([("kind", "sparkplug")]);
        keys(&mut main, ObjectKind::SparkplugUplink, &[&object(&kind), &object(uplink)]);
    }
    files.insert(MAIN_FILE.to_owned(), main);
    files
}

/// Puts the point list into its file. Devices share a file as long as their lists are the same.
fn points_path(device: &Device, files: &mut Files) -> String {
    let list = points(&device.points);
    let own = format!("points/{}.csv", device.settings.name);
    let path = match files.get(&device.settings.points) {
        Some(other) if *other != list => own,
        _ => device.settings.points.clone(),
    };
    files.insert(path.clone(), list);
    path
}

fn points(points: &[Point]) -> String {
    let schema = schema::of(ObjectKind::Point);
    let mut writer = csv::Writer::from_writer(Vec::new());
    let rows = points.iter().map(|point| {
        let mut row = object(&point.settings);
        row.insert("address".to_owned(), Value::from(point.address.to_string()));
        let cell = |key| match row.get(key) {
            value if value == schema.default_of(key) => String::new(),
            Some(Value::String(text)) => text.clone(),
            None | Some(Value::Null) => String::new(),
            Some(other) => other.as_f64().map_or_else(|| other.to_string(), |number| number.to_string()),
        };
        schema.keys().map(cell).collect::<Vec<_>>()
    });
    let header = schema.keys().map(str::to_owned).collect();
    let written = std::iter::once(header).chain(rows).try_for_each(|row| writer.write_record(row));
    debug_assert!(written.is_ok(), "a vector takes every row");
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

/// Writes the keys of an object that is made of `parts`, in the order of its schema.
fn keys(out: &mut String, kind: ObjectKind, parts: &[&Map<String, Value>]) {
    let schema = schema::of(kind);
    for key in schema.keys() {
        let value = parts.iter().find_map(|part| part.get(key));
        match value {
            Some(Value::Null) | None => {}
            value if value == schema.default_of(key) => {}
            Some(value) => entry(out, key, value),
        }
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

fn object(part: &impl Serialize) -> Map<String, Value> {
    match serde_json::to_value(part) {
        Ok(Value::Object(object)) => object,
        _ => Map::new(),
    }
}
