use super::Protocol;
use super::formats;
use super::schema::{self, ObjectKind};
use serde_json::{Map, Value, json};

/// The JSON Schema (draft 2020-12) of `gateway.toml`, for editors that complete and check while one types.
///
/// Formats that only Interlex knows are told as their words, and spans and names as patterns too.
#[must_use]
pub fn file_schema() -> Value {
    let object = |kind| simplified(schema::schema(kind).clone());
    let devices = || Protocol::ALL.into_iter().map(ObjectKind::Device);
    let uplinks = || ObjectKind::UPLINKS.into_iter().map(|(_, kind)| kind);
    let kinds = ObjectKind::links().chain([ObjectKind::Gateway]).chain(devices()).chain(uplinks());
    let definitions: Map<String, Value> = kinds
        .filter_map(|kind| schema::schema(kind).get("$defs")?.as_object().cloned())
        .flatten()
        .map(|(name, definition)| (name, simplified(definition)))
        .collect();
    let list = |kinds: &mut dyn Iterator<Item = ObjectKind>, purpose: &str| {
        let kinds: Vec<_> = kinds.map(object).collect();
        json!({ "type": "array", "description": purpose, "items": { "anyOf": kinds } })
    };
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "gateway.toml: one gateway of Interlex",
        "type": "object",
        "$defs": definitions,
        "required": ["gateway"],
        "additionalProperties": false,
        "properties": {
            "gateway": object(ObjectKind::Gateway),
            "rates": {
                "type": "object",
                "description": "Named sampling periods, such as fast = \"500ms\".",
                "additionalProperties": simplified(json!({ "type": "string", "format": "span" })),
            },
            "link": list(&mut ObjectKind::links(), "Transports to the field."),
            "device": list(&mut devices(), "Field devices, each behind a link."),
            "uplink": list(&mut uplinks(), "Connections to brokers."),
        },
    })
}

/// Turns formats of our own into what any editor understands.
fn simplified(value: Value) -> Value {
    match value {
        Value::Array(items) => items.into_iter().map(simplified).collect(),
        Value::Object(object) => {
            let mut out: Map<String, Value> = Map::new();
            for (key, value) in object {
                match (key.as_str(), value.as_str()) {
                    ("$schema" | "$defs", _) => {}
                    (key, _) if key.starts_with("x-") => {}
                    ("format", Some(format)) => {
                        let words = formats::find(format).map(|known| known.expected);
                        out.extend(words.map(|words| ("errorMessage".to_owned(), json!(format!("expected {words}")))));
                        out.extend(pattern(format).map(|pattern| ("pattern".to_owned(), json!(pattern))));
                    }
                    _ => {
                        out.insert(key, simplified(value));
                    }
                }
            }
            Value::Object(out)
        }
        other => other,
    }
}

fn pattern(format: &str) -> Option<&'static str> {
    match format {
        "span" => Some("^[1-9][0-9]*(ms|s|m|h|d)$"),
        "name" => Some("^[^+#/]{1,64}$"),
        "broker-url" => Some("^mqtts?://.+$"),
        "server-url" => Some("^opc\\.tcp://.+$"),
        "fingerprint" => Some("^[0-9A-Fa-f: ]{64,95}$"),
        "list-path" => Some("^.*\\.csv$"),
        _ => None,
    }
}
