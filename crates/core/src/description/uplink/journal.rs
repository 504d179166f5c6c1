use crate::description::Span;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What is kept until the broker has proved to have read it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct JournalSettings {
    /// How long a sample that the broker has not proved to have read may wait before it is written to the database: what
    /// a sudden end of the program may cost.
    #[serde(default = "default_journal_flush")]
    #[schemars(extend("x-advanced" = true))]
    pub journal_flush: Span,
    /// Samples that have waited for longer are lost.
    #[serde(default = "default_keep_for")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_for: Span,
    /// The most megabytes that may wait in the database; beyond, samples are lost.
    #[serde(default = "default_keep_megabytes")]
    #[schemars(range(min = 1, max = 1_000_000), extend("x-advanced" = true))]
    pub keep_megabytes: u32,
    /// Which samples are lost when there is no more room.
    #[serde(default)]
    #[schemars(extend("x-advanced" = true))]
    pub when_full: WhenFull,
    /// The share of the time, in percent, in which what has waited may use the connection beside what is new.
    #[serde(default = "default_history_share")]
    #[schemars(range(min = 1, max = 100), extend("x-advanced" = true))]
    pub history_share: u8,
}

/// Which samples are lost when there is no more room.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenFull {
    /// The oldest: the way to now is known.
    #[default]
    LoseOldest,
    /// The newest: how it began is known.
    LoseNewest,
}

fn default_journal_flush() -> Span {
    Span::from_millis(500)
}

fn default_keep_for() -> Span {
    Span::from_millis(7 * 86_400_000)
}

const fn default_keep_megabytes() -> u32 {
    2048
}

const fn default_history_share() -> u8 {
    50
}
