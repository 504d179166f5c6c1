use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;

/// A password or key. Whoever stores a description encrypts it; it is never printed.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SecretText(String);

impl SecretText {
    /// What stands in place of a secret wherever it is shown or exported. Coming back, it means: keep what is stored.
    pub const PLACEHOLDER: &str = "(stored)";

    /// A secret.
    #[must_use]
    pub const fn new(text: String) -> Self {
        Self(text)
    }

    /// The secret itself, for the one who has to send it.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for SecretText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SecretText(…)")
    }
}

impl JsonSchema for SecretText {
    fn schema_name() -> Cow<'static, str> {
        "SecretText".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "format": "secret", "writeOnly": true })
    }
}
