use ecow::EcoString;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::{Borrow, Cow};
use std::fmt;

/// The most characters a name may have: short enough for a table column, long enough for a plant code.
const LONGEST: usize = 64;

/// The name of a gateway, link, device, uplink or rate.
///
/// It becomes one level of an MQTT topic, so `+`, `#` and `/` are refused (MQTT 3.1.1 section 4.7; Sparkplug
/// 3.0.0, tck-id-topic-structure-namespace-valid-device-id), as are control characters and outer spaces.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Name(String);

/// The name of a point: like [`Name`], but `/` puts it into folders.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PointName(EcoString);

/// What a file should say for a [`Name`].
pub(super) const NAME_FORM: &str = "1 to 64 characters without + # / and without outer spaces";
/// What a file should say for a [`PointName`].
pub(super) const POINT_NAME_FORM: &str =
    "1 to 64 characters without + and #, with / only between two parts, and without outer spaces";

/// Whether a text is a [`Name`].
///
/// # Errors
/// What would be one.
pub fn name_form(text: &str) -> Result<(), &'static str> {
    if is_name(text) { Ok(()) } else { Err(NAME_FORM) }
}

pub(super) fn is_name(text: &str) -> bool {
    !text.contains('/') && is_point_name(text)
}

pub(super) fn is_point_name(text: &str) -> bool {
    let forbidden = |c: char| matches!(c, '+' | '#') || c.is_control();
    text.chars().count() <= LONGEST
        && !text.contains(forbidden)
        && text.split('/').all(|part| !part.is_empty() && part.trim() == part)
}

macro_rules! name_type {
    ($name:ident, $format:literal) => {
        impl $name {
            /// The name as text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        // As a text in quotes: messages show it so.
        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(&self.0, f)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }

        impl Borrow<str> for $name {
            fn borrow(&self) -> &str {
                &self.0
            }
        }

        impl JsonSchema for $name {
            fn schema_name() -> Cow<'static, str> {
                stringify!($name).into()
            }

            fn inline_schema() -> bool {
                true
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "format": $format })
            }
        }
    };
}

name_type!(Name, "name");
name_type!(PointName, "point-name");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_mqtt_forbids_is_no_name() {
        for text in ["a", "gas-analyser", "Heizkreis Süd", "x.y_z"] {
            assert!(is_name(text), "{text}");
        }
        for text in ["", " a", "a ", "a+b", "#", "a/b", "a\nb", &"x".repeat(65)] {
            assert!(!is_name(text), "{text}");
        }
        assert!(is_point_name("engine/exhaust/temperature"));
        for text in ["/a", "a/", "a//b", "a/ b", "a/+/b"] {
            assert!(!is_point_name(text), "{text}");
        }
    }
}
