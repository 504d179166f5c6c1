use super::schema::ObjectSchema;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};

/// The form of what is asked for beside a description, such as where to look: checked, and told, as its objects are.
#[derive(Debug)]
pub struct Form(ObjectSchema);

impl Form {
    /// The form of a type.
    #[must_use]
    pub fn of<T: JsonSchema>() -> Self {
        Self(ObjectSchema::new(Map::new(), &[schemars::schema_for!(T)]))
    }

    /// Its JSON Schema (draft 2020-12).
    #[must_use]
    pub const fn document(&self) -> &Value {
        self.0.document()
    }

    /// Reads what was filled in.
    ///
    /// # Errors
    /// What is wrong with it and what would be right, in words.
    pub fn read<T: DeserializeOwned>(&self, filled: &Value) -> Result<T, String> {
        let faults = self.0.faults(filled).into_iter();
        let told: Vec<_> = faults.map(|fault| format!("{}; expected {}", fault.message, fault.expected)).collect();
        if told.is_empty() { T::deserialize(filled).map_err(|error| error.to_string()) } else { Err(told.join("; ")) }
    }
}
