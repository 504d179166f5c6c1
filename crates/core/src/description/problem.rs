use serde::{Deserialize, Serialize};
use std::fmt;

/// One thing that is wrong with a description: where, what, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Problem {
    /// The file, relative to the directory of `gateway.toml`.
    pub file: String,
    /// Line in the file, from 1; 0 when the file as a whole is meant.
    pub line: u32,
    /// Column in the line in characters, from 1; 0 when the line or file as a whole is meant.
    pub column: u32,
    /// The object and field, such as `device "gas-analyser" unit`.
    pub object: String,
    /// What is wrong.
    pub message: String,
    /// What would be right.
    pub expected: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.file)?;
        if self.line > 0 {
            write!(f, ":{}", self.line)?;
        }
        if self.column > 0 {
            write!(f, ":{}", self.column)?;
        }
        write!(f, ": ")?;
        if !self.object.is_empty() {
            write!(f, "{}: ", self.object)?;
        }
        write!(f, "{}", self.message)?;
        if !self.expected.is_empty() {
            write!(f, "; expected {}", self.expected)?;
        }
        Ok(())
    }
}

/// A [`Problem`] before its place is known: what is wrong at a key or cell of one object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Fault {
    /// The key it is about; empty for the object as a whole.
    pub(super) key: String,
    pub(super) message: String,
    pub(super) expected: String,
}

impl Fault {
    pub(super) fn new(key: &str, message: impl Into<String>, expected: impl Into<String>) -> Self {
        Self { key: key.to_owned(), message: message.into(), expected: expected.into() }
    }
}

/// Line and column, both from 1, of a byte offset in a text; the column counts characters.
pub(super) fn line_and_column(text: &str, offset: usize) -> (u32, u32) {
    let before = text.get(..offset).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let line = before.bytes().filter(|byte| *byte == b'\n').count() + 1;
    let column = before.get(line_start..).map_or(0, |rest| rest.chars().count()) + 1;
    (count(line), count(column))
}
