use crate::description::{Access, Point};
use crate::{DataType, UnapplyError, Value};
use serde::Serialize;
use std::fmt;

/// What became of a command: the same four in client, console, host metric, reply and audit trail.
#[derive(Debug, Clone, PartialEq)]
pub enum CommandOutcome {
    /// It was carried out, and the field says what was written.
    Confirmed,
    /// It was carried out, and the field says nothing, or something else: why.
    Accepted(String),
    /// It was not carried out: why.
    Refused(String),
    /// It may have been carried out: why nobody knows.
    Unknown(String),
}

/// The word of a [`CommandOutcome`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OutcomeWord {
    /// Carried out and read back.
    Confirmed,
    /// Carried out.
    Accepted,
    /// Not carried out.
    Refused,
    /// Nobody knows.
    Unknown,
}

impl CommandOutcome {
    /// Its word.
    #[must_use]
    pub const fn word(&self) -> OutcomeWord {
        match self {
            Self::Confirmed => OutcomeWord::Confirmed,
            Self::Accepted(_) => OutcomeWord::Accepted,
            Self::Refused(_) => OutcomeWord::Refused,
            Self::Unknown(_) => OutcomeWord::Unknown,
        }
    }
}

impl fmt::Display for OutcomeWord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Confirmed => "confirmed",
            Self::Accepted => "accepted",
            Self::Refused => "refused",
            Self::Unknown => "unknown",
        })
    }
}

impl fmt::Display for CommandOutcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Confirmed => self.word().fmt(f),
            Self::Accepted(why) | Self::Refused(why) | Self::Unknown(why) => write!(f, "{}: {why}", self.word()),
        }
    }
}

/// The value that words mean for a point, as a person writes them: text stays text where the point is text, `on`, `off`, 0
/// and 1 are a bit where it is one, and a number is one where it has numbers.
#[must_use]
pub fn value_from_words(point: &Point, words: &str) -> Value {
    value_from_words_as(point.raw_type(), words)
}

/// The same, for a type that only the device has told.
#[must_use]
pub fn value_from_words_as(raw_type: DataType, words: &str) -> Value {
    match raw_type {
        text if text.is_text() => Value::Text(words.into()),
        DataType::Bool => match words {
            "on" | "true" | "1" => Value::Bool(true),
            "off" | "false" | "0" => Value::Bool(false),
            other => Value::Text(other.into()),
        },
        _ => Value::from_words(words),
    }
}

/// What a point is commanded to.
#[derive(Debug, Clone, PartialEq)]
pub enum CommandValue {
    /// An engineering value.
    Set(Value),
    /// What was commanded before is given back: for objects whose commands have priorities, so that whoever comes after us holds them.
    Relinquish,
}

impl CommandValue {
    /// The word for it in files.
    pub const RELINQUISH: &str = "relinquish";
}

impl From<Value> for CommandValue {
    fn from(value: Value) -> Self {
        Self::Set(value)
    }
}

impl fmt::Display for CommandValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Set(value) => value.fmt(f),
            Self::Relinquish => f.write_str(Self::RELINQUISH),
        }
    }
}

/// Why a value may not be written to a point.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum CommandRefusal {
    /// The point is only read.
    #[error("the point is read only; its access would have to be read-write")]
    ReadOnly,
    /// Below the low limit of the point.
    #[error("{value} is below its low limit {low}")]
    Low {
        /// The engineering value.
        value: f64,
        /// The limit.
        low: f64,
    },
    /// Above the high limit of the point.
    #[error("{value} is above its high limit {high}")]
    High {
        /// The engineering value.
        value: f64,
        /// The limit.
        high: f64,
    },
    /// Nobody holds it at a priority.
    #[error("it has no priorities: there is nothing to give back")]
    NoPriorities,
    /// The value has no form in the device.
    #[error(transparent)]
    Value(#[from] UnapplyError),
}

/// Checks what is known of a command before anybody is asked: access and limits, and the type where the description has it.
///
/// # Errors
/// [`CommandRefusal`]
pub fn check_command(point: &Point, value: &Value) -> Result<(), CommandRefusal> {
    match point.raw_type() {
        DataType::Auto => check_access(point, value),
        known => raw_to_write_as(point, value, known).map(drop),
    }
}

/// The raw value that a command writes: access, limits and type are checked before anything is sent.
///
/// # Errors
/// [`CommandRefusal`]
pub fn raw_to_write(point: &Point, value: &Value) -> Result<Value, CommandRefusal> {
    raw_to_write_as(point, value, point.raw_type())
}

/// The same, for a type that only the device has told.
///
/// # Errors
/// [`CommandRefusal`]
pub fn raw_to_write_as(point: &Point, value: &Value, raw_type: DataType) -> Result<Value, CommandRefusal> {
    check_access(point, value)?;
    let raw = point.shaping.unapply(value, raw_type)?;
    // What is rounded to a whole number must not leave the limits by that.
    check_limits(point, &point.shaping.apply(&raw))?;
    Ok(raw)
}

fn check_access(point: &Point, value: &Value) -> Result<(), CommandRefusal> {
    if point.settings.access == Access::Read { Err(CommandRefusal::ReadOnly) } else { check_limits(point, value) }
}

fn check_limits(point: &Point, value: &Value) -> Result<(), CommandRefusal> {
    // A rounding error of the way back is not beyond a limit.
    let slack = |limit: f64| limit.abs() * 1e-12;
    let number = value.as_f64().filter(|_| !matches!(value, Value::Bool(_)));
    if let Some((value, low)) = number.zip(point.settings.low).filter(|(value, low)| *value < low - slack(*low)) {
        return Err(CommandRefusal::Low { value, low });
    }
    if let Some((value, high)) = number.zip(point.settings.high).filter(|(value, high)| *value > high + slack(*high)) {
        return Err(CommandRefusal::High { value, high });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::{Files, read};

    #[test]
    fn a_command_is_checked_before_anything_is_sent() {
        let gateway = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                       \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let points = "name,address,type,scale,rate,access,low,high\nset-point,holding:0,uint16,0.1,fast,read-write,30,50\n\
                      pump,coil:0,,,fast,read-write,,\nmode,holding:5.2,,,fast,read-write,,\nlevel,input:0,uint16,,fast,,,\n";
        let files: Files = [("gateway.toml".into(), gateway.into()), ("p.csv".into(), points.into())].into();
        let device = read(&files).unwrap().devices.remove(0);
        let write =
            |at: usize, value: Value| raw_to_write(&device.points[at], &value).map_err(|error| error.to_string());
        assert_eq!(write(0, Value::Float64(42.5)), Ok(Value::Uint(425)));
        assert_eq!(write(0, Value::Int(51)), Err("51 is above its high limit 50".into()));
        assert_eq!(write(0, Value::Float64(29.9)), Err("29.9 is below its low limit 30".into()));
        assert_eq!(write(1, Value::Bool(true)), Ok(Value::Bool(true)));
        assert_eq!(write(2, Value::Bool(false)), Ok(Value::Bool(false)));
        assert_eq!(write(2, Value::Uint(1)), Ok(Value::Bool(true)));
        assert_eq!(write(2, Value::Uint(2)), Err("2 is no bit: write true or false".into()));
        let words = |at: usize, text: &str| value_from_words(&device.points[at], text);
        assert_eq!([words(1, "on"), words(2, "0")], [Value::Bool(true), Value::Bool(false)]);
        assert_eq!([words(0, "42.5"), words(1, "up")], [Value::Float64(42.5), Value::Text("up".into())]);
        assert!(write(3, Value::Uint(1)).unwrap_err().starts_with("the point is read only"));
    }
}
