use serde::{Deserialize, Serialize};
use std::fmt;

/// What kind of thing an object of a description is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ObjectClass {
    /// The gateway itself; there is one.
    Gateway,
    /// A named sampling period.
    Rate,
    /// A transport to the field.
    Link,
    /// A field device.
    Device,
    /// A connection to a broker.
    Uplink,
    /// A row of a point list.
    Point,
}

impl ObjectClass {
    /// All of them, in the order of the files.
    pub const ALL: [Self; 6] = [Self::Gateway, Self::Rate, Self::Link, Self::Device, Self::Uplink, Self::Point];

    /// The word in files, API and database.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Gateway => "gateway",
            Self::Rate => "rate",
            Self::Link => "link",
            Self::Device => "device",
            Self::Uplink => "uplink",
            Self::Point => "point",
        }
    }

    /// The class of a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|class| class.word() == word)
    }
}

/// Names one object of a description.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ObjectRef {
    /// What it is.
    pub class: ObjectClass,
    /// The point list that it stands in, by path; empty unless it is a point.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub list: String,
    /// Its name.
    pub name: String,
}

impl ObjectRef {
    /// An object that stands in no point list.
    pub fn new(class: ObjectClass, name: impl Into<String>) -> Self {
        Self { class, list: String::new(), name: name.into() }
    }

    /// A point of a list.
    pub fn point(list: impl Into<String>, name: impl Into<String>) -> Self {
        Self { class: ObjectClass::Point, list: list.into(), name: name.into() }
    }
}

impl fmt::Display for ObjectRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.class, self.name.is_empty()) {
            (ObjectClass::Rate, _) => f.write_str("rates"),
            (ObjectClass::Gateway, _) | (_, true) => f.write_str(self.class.word()),
            _ => write!(f, "{} {:?}", self.class.word(), self.name),
        }
    }
}
