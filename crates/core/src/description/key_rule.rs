//! What a schema says of one key, ready to be asked of every row of a long list. Our types come to a small part of JSON Schema
//! (draft 2020-12, Validation sections 6.1 to 6.3): a schema with anything else in it is no rule.

use super::formats::{self, Format};
use super::problem::Fault;
use super::row::Cell;
use serde_json::{Map, Value};

/// What a value may be.
#[derive(Debug)]
pub(super) struct KeyRule {
    kinds: Vec<Kind>,
    minimum: Option<Value>,
    maximum: Option<Value>,
    is_filled: bool,
    /// It is a secret, or where one may have come to by mistake: no message shows it.
    is_hidden: bool,
    format: Option<&'static Format>,
    choices: Choices,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Null,
    Boolean,
    Integer,
    Number,
    String,
}

#[derive(Debug)]
enum Choices {
    All,
    One(Value),
    Some(Vec<Value>),
}

impl KeyRule {
    /// The rule of a key, whose definitions are those of its schema.
    pub(super) fn new(schema: &Value, definitions: &Map<String, Value>) -> Option<Self> {
        let mut rule = Self {
            kinds: Vec::new(),
            minimum: None,
            maximum: None,
            is_filled: false,
            is_hidden: false,
            format: None,
            choices: Choices::All,
        };
        for (keyword, value) in schema.as_object()? {
            match keyword.as_str() {
                "$ref" => return Self::new(definitions.get(value.as_str()?.strip_prefix("#/$defs/")?)?, definitions),
                "type" => {
                    let names = value.as_array().map_or(std::slice::from_ref(value), Vec::as_slice);
                    rule.kinds = names.iter().map(Kind::of).collect::<Option<_>>()?;
                }
                "minimum" => rule.minimum = Some(value.clone()),
                "maximum" => rule.maximum = Some(value.clone()),
                "minLength" if *value == 1 => rule.is_filled = true,
                "format" => match value.as_str()? {
                    // What the range beside them says.
                    "double" | "uint8" | "uint16" | "uint32" | "uint64" => {}
                    name => {
                        rule.is_hidden |= matches!(name, "certificates" | "authorities");
                        rule.format = Some(formats::find(name)?);
                    }
                },
                "const" => rule.choices = Choices::One(value.clone()),
                "enum" => rule.choices = Choices::Some(value.as_array()?.clone()),
                "oneOf" => {
                    let constants = value.as_array()?.iter().map(|choice| choice.get("const").cloned());
                    rule.choices = Choices::Some(constants.collect::<Option<_>>()?);
                }
                "writeOnly" => rule.is_hidden |= *value == true,
                "default" | "description" => {}
                told if told.starts_with("x-") => {}
                _ => return None,
            }
        }
        Some(rule)
    }

    /// All that it has against the value of a key.
    pub(super) fn faults(&self, key: &str, cell: &Cell<'_>) -> Vec<Fault> {
        let mut faults = Vec::new();
        let message = || match self.is_hidden {
            true => format!("{key} is no text in the form that it needs"),
            false => format!("{key} is {}", shown(&cell.to_value())),
        };
        let mut fault = |expected: String| faults.push(Fault::new(key, message(), expected));
        if !self.kinds.is_empty() && !self.kinds.iter().any(|kind| kind.is_of(cell)) {
            let words = self.kinds.iter().filter(|kind| **kind != Kind::Null).map(|kind| kind.words());
            fault(words.collect::<Vec<_>>().join(" or "));
        }
        let beyond = |limit: &Option<Value>, is_beyond: fn(f64, f64) -> bool| {
            limit.clone().filter(|limit| cell.as_f64().zip(limit.as_f64()).is_some_and(|(n, end)| is_beyond(n, end)))
        };
        beyond(&self.minimum, |number, end| number < end).into_iter().for_each(|end| fault(format!("{end} or more")));
        beyond(&self.maximum, |number, end| number > end).into_iter().for_each(|end| fault(format!("{end} or less")));
        match &self.choices {
            Choices::One(only) if Cell::of(only) != *cell => fault(only.to_string()),
            Choices::Some(choices) if !choices.iter().any(|choice| Cell::of(choice) == *cell) => {
                fault(format!("one of {}", listed(choices)))
            }
            _ => {}
        }
        let Some(text) = cell.as_str() else { return faults };
        if self.is_filled && text.is_empty() {
            fault("some text".to_owned());
        }
        if let Some(format) = self.format.filter(|format| !(format.is_valid)(text)) {
            fault(format.expected.to_owned());
        }
        faults
    }
}

impl Kind {
    fn of(name: &Value) -> Option<Self> {
        Some(match name.as_str()? {
            "null" => Self::Null,
            "boolean" => Self::Boolean,
            "integer" => Self::Integer,
            "number" => Self::Number,
            "string" => Self::String,
            _ => return None,
        })
    }

    fn is_of(self, cell: &Cell<'_>) -> bool {
        match self {
            Self::Null => cell.is_null(),
            Self::Boolean => matches!(cell, Cell::Bool(_)),
            Self::Integer => cell.as_f64().is_some_and(|number| number.fract() == 0.0),
            Self::Number => cell.as_f64().is_some(),
            Self::String => cell.as_str().is_some(),
        }
    }

    const fn words(self) -> &'static str {
        match self {
            Self::Null => "nothing",
            Self::Boolean => "true or false",
            Self::Integer => "a whole number",
            Self::Number => "a number",
            Self::String => "text in quotes",
        }
    }
}

fn listed(choices: &[Value]) -> String {
    choices.iter().map(|choice| choice.as_str().unwrap_or_default()).collect::<Vec<_>>().join(", ")
}

/// A value as a message shows it: text in quotes, and not more of it than fits a line.
pub(super) fn shown(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(60) {
        Some((end, _)) => format!("{}…", text.get(..end).unwrap_or_default()),
        None => text,
    }
}
