use super::frames::FrameView;
use crate::error::TrialError;
use interlex_core::description::{Device, Link, Point};
use interlex_core::{CommandOutcome, CommandRefusal, OutcomeWord, PointIndex, Value};
use serde::Serialize;

/// A value to write once, now, to a point that need not be described anywhere.
#[derive(Debug, Clone)]
pub struct PointWrite {
    /// How to get there.
    pub link: Link,
    /// Whom to tell.
    pub device: Device,
    /// What to set.
    pub point: Point,
    /// The engineering value.
    pub value: Value,
    /// Whether what was commanded before is given back, in place of a value: for objects with priorities.
    pub relinquishes: Relinquish,
    /// The index of the point when it runs: it is read at once.
    pub index: Option<PointIndex>,
}

/// Whether a write gives back what was commanded before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Relinquish {
    /// It sets the value.
    #[default]
    No,
    /// It does.
    Yes,
    /// It does where the device still holds the value: somebody else may have commanded it since.
    IfHeld,
}

/// What a write brought.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct WriteOutcome {
    /// What became of it: confirmed or accepted.
    #[schema(value_type = String)]
    pub outcome: OutcomeWord,
    /// The same in words, with what was written where that differs from what was asked for.
    pub words: String,
    /// The address, in its canonical form.
    pub address: String,
    /// The raw value that was written.
    #[schema(value_type = serde_json::Value)]
    pub written: Value,
    /// The engineering value that was written: a whole number where the device has no others.
    #[schema(value_type = serde_json::Value)]
    pub taken: Value,
    /// The raw value that the device says now; `null` when it could not be read back.
    #[schema(value_type = serde_json::Value)]
    pub raw: Option<Value>,
    /// The engineering value of it.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// Its unit.
    pub unit: String,
    /// Whether the device says what was written; `null` when nobody answers, as with unit 0 of a serial line.
    pub confirmed: Option<bool>,
    /// Why it could not be read back.
    #[schema(value_type = Option<String>)]
    pub read_back_error: Option<Box<str>>,
    /// What the device said to it, where nothing can be read back.
    #[schema(value_type = Option<String>)]
    pub answer: Option<Box<str>>,
    /// How long the answer to the write took, in milliseconds.
    pub answer_ms: f64,
    /// Whether it went over a connection that was open for the running gateway.
    pub shared_connection: bool,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
}

/// Why nothing was written, or nobody knows whether it was.
#[derive(Debug, Clone, thiserror::Error)]
pub enum WriteError {
    /// Nothing was sent.
    #[error("{0}")]
    Refused(#[from] CommandRefusal),
    /// Nothing was sent.
    #[error("{0}")]
    Value(String),
    /// The link or the device did not do it.
    #[error(transparent)]
    Trial(#[from] TrialError),
    /// It was sent, and nobody knows what the device did.
    #[error("{why}; it may have been carried out")]
    Unknown {
        /// What came instead of an answer.
        why: String,
        /// The frames sent and received.
        frames: Vec<FrameView>,
    },
}

impl WriteError {
    /// What became of the command.
    #[must_use]
    pub fn outcome(&self) -> CommandOutcome {
        match self {
            Self::Unknown { .. } => CommandOutcome::Unknown(self.to_string()),
            Self::Refused(_) | Self::Value(_) | Self::Trial(_) => CommandOutcome::Refused(self.to_string()),
        }
    }
}

impl WriteOutcome {
    /// What became of the command.
    #[must_use]
    pub fn outcome(&self) -> CommandOutcome {
        match (self.confirmed, &self.read_back_error, &self.answer) {
            (Some(true), ..) => CommandOutcome::Confirmed,
            (Some(false), ..) => {
                let says =
                    self.value.as_ref().map_or_else(|| "nothing that can be read".to_owned(), ToString::to_string);
                CommandOutcome::Accepted(format!("the device says {says} now"))
            }
            (None, Some(error), _) => CommandOutcome::Accepted(format!("not read back: {error}")),
            (None, None, Some(answer)) => CommandOutcome::Accepted(answer.to_string()),
            (None, None, None) => CommandOutcome::Accepted("sent to all units, and nobody answers that".to_owned()),
        }
    }

    /// The outcome, and what was written where the device took something else than was asked for.
    pub(crate) fn told(mut self, asked: &Value) -> Self {
        let outcome = self.outcome();
        let is_other = match (asked.as_f64(), self.taken.as_f64()) {
            (Some(asked), Some(taken)) => (asked - taken).abs() > asked.abs() * 1e-9,
            _ => false,
        };
        self.words = if is_other { format!("{outcome}, written as {}", self.taken) } else { outcome.to_string() };
        self.outcome = outcome.word();
        self
    }
}
