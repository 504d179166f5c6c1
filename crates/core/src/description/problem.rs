use super::object::ObjectRef;
use serde::{Deserialize, Serialize};
use std::fmt;

/// How much a problem matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It would not run.
    Mistake,
    /// It would run, and surprise.
    Warning,
}

/// One thing that is wrong with a description: where, what, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Problem {
    /// The file, relative to the directory of `gateway.toml`; empty when a draft was checked and no files.
    pub file: String,
    /// Line in the file, from 1; 0 when the file as a whole is meant.
    pub line: u32,
    /// Column in the line in characters, from 1; 0 when the line or file as a whole is meant.
    pub column: u32,
    /// The object, such as `device "gas-analyser"`.
    pub object: String,
    /// What is wrong.
    pub message: String,
    /// What would be right.
    pub expected: String,
    /// Whether it keeps the description from running.
    pub severity: Severity,
    /// The object, to go to; none when no object is to blame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<ObjectRef>,
    /// The field of the object; empty when the object as a whole is meant.
    pub field: String,
}

impl Problem {
    /// Whether it keeps the description from running.
    #[must_use]
    pub const fn is_mistake(&self) -> bool {
        matches!(self.severity, Severity::Mistake)
    }

    /// A mistake of a file that is about no object in it.
    pub(super) fn of_file(file: &str, place: (u32, u32), message: impl Into<String>, expected: &str) -> Self {
        Self {
            file: file.to_owned(),
            line: place.0,
            column: place.1,
            object: String::new(),
            message: message.into(),
            expected: expected.to_owned(),
            severity: Severity::Mistake,
            target: None,
            field: String::new(),
        }
    }

    /// What is wrong with one object, wherever it stands.
    #[must_use]
    pub fn of_object(target: ObjectRef, field: &str, severity: Severity, message: String, expected: String) -> Self {
        Self {
            file: String::new(),
            line: 0,
            column: 0,
            object: target.to_string(),
            message,
            expected,
            severity,
            target: Some(target),
            field: field.to_owned(),
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.file.is_empty() {
            f.write_str(&self.file)?;
            if self.line > 0 {
                write!(f, ":{}", self.line)?;
            }
            if self.column > 0 {
                write!(f, ":{}", self.column)?;
            }
            write!(f, ": ")?;
        }
        if self.severity == Severity::Warning {
            write!(f, "warning: ")?;
        }
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
    pub(super) severity: Severity,
    /// Whether the key itself is wrong, and not its value.
    pub(super) is_about_key: bool,
}

impl Fault {
    pub(super) fn new(key: &str, message: impl Into<String>, expected: impl Into<String>) -> Self {
        let (message, expected) = (message.into(), expected.into());
        Self { key: key.to_owned(), message, expected, severity: Severity::Mistake, is_about_key: false }
    }

    pub(super) fn warning(key: &str, message: impl Into<String>, expected: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::new(key, message, expected) }
    }
}

/// The lines of a text, to say where something stands in it without counting from its start each time.
#[derive(Debug)]
pub(super) struct Lines<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

/// Further to the right nobody counts columns.
const LAST_COLUMN: usize = 10_000;

impl<'a> Lines<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        let ends = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n');
        Self { text, starts: std::iter::once(0).chain(ends.map(|(at, _)| at + 1)).collect() }
    }

    /// Line and column, both from 1, of a byte offset; the column counts characters.
    pub(super) fn place(&self, offset: usize) -> (u32, u32) {
        let line = self.starts.partition_point(|start| *start <= offset);
        let start = self.starts.get(line.saturating_sub(1)).copied().unwrap_or(0);
        let column = self.text.get(start..).map_or(0, |rest| {
            let before = rest.char_indices().take(LAST_COLUMN).take_while(|(at, _)| start + at < offset);
            before.count()
        });
        let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        (count(line), count(column + 1))
    }
}
