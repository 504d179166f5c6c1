use super::schema::{self, FORMATS, ObjectKind};
use serde_json::{Map, Value, json};

/// The JSON Schema (draft 2020-12) of `gateway.toml`, for editors that complete and check while one types.
///
/// Formats that only Interlex knows are told as their words, and spans and names as patterns too.
#[must_use]
pub fn file_schema() -> Value {
    let object = |kind| simplified(schema::schema(kind).clone());
    let kinds = ObjectKind::LINKS.into_iter().map(|(_, kind)| kind);
    let kinds = kinds.chain([ObjectKind::Gateway, ObjectKind::ModbusDevice]);
    let kinds = kinds.chain(ObjectKind::UPLINKS.into_iter().map(|(_, kind)| kind));
    let definitions: Map<String, Value> = kinds
        .filter_map(|kind| schema::schema(kind).get("$defs")?.as_object().cloned())
        .flatten()
        .map(|(name, definition)| (name, simplified(definition)))
        .collect();
    let list = |kind, purpose: &str| json!({ "type": "array", "description": purpose, "items": object(kind) });
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
            "link": {
                "type": "array",
                "description": "Transports to the field.",
                "items": { "anyOf": ObjectKind::LINKS.map(|(_, kind)| object(kind)) },
            },
            "device": list(ObjectKind::ModbusDevice, "Field devices, each behind a link."),
            "uplink": {
                "type": "array",
                "description": "Connections to brokers.",
                "items": { "anyOf": ObjectKind::UPLINKS.map(|(_, kind)| object(kind)) },
            },
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
                        let words = FORMATS.iter().find(|(name, ..)| *name == format).map(|(_, _, words)| *words);
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
        "list-path" => Some("^.*\\.csv$"),
        _ => None,
    }
}
