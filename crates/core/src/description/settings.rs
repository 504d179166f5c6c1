//! What every link, device, point and uplink has, whatever its protocol.

use super::{Holes, Name, PointName, Row, Span};
use crate::{AutoParts, DataType, Enumeration, Report, Shaping, TwoEndedSpan};
use ecow::EcoString;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;

/// The gateway itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct GatewaySettings {
    /// Its name, unique in the service.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// How many changes of states stay in its sequence of events, and how many of numbers; the oldest go.
    #[serde(default = "million", skip_serializing_if = "is_million")]
    #[schemars(range(min = 1000, max = 100_000_000), extend("x-advanced" = true, "default" = 1_000_000))]
    pub events_kept: u32,
}

const fn million() -> u32 {
    1_000_000
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_million(count: &u32) -> bool {
    *count == million()
}

/// A named sampling period: in the files a line of `[rates]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RateSettings {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// How often the points that name it are read.
    pub period: Span,
}

/// What every link has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LinkSettings {
    /// Its name, unique in the gateway.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// How busy a line may be by the check's calculation, which takes every request for one of its longest. More lets rates
    /// through that the line may not keep.
    #[serde(default = "full", skip_serializing_if = "is_full")]
    #[schemars(range(min = 10, max = 1000), extend("x-advanced" = true, "x-unit" = "%", "default" = 100))]
    pub most_load: u16,
    /// After so many of its periods without a fresh value a point is uncertain: stale. No sooner than after a second.
    #[serde(default = "five", skip_serializing_if = "is_five")]
    #[schemars(range(min = 2, max = 1000), extend("x-advanced" = true, "default" = 5))]
    pub stale_periods: u16,
}

const fn full() -> u16 {
    100
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_full(percent: &u16) -> bool {
    *percent == 100
}

const fn five() -> u16 {
    5
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_five(periods: &u16) -> bool {
    *periods == 5
}

/// What every device has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct DeviceSettings {
    /// Its name, unique in the gateway; on Sparkplug the device id.
    pub name: Name,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// The link it is reached through.
    #[schemars(extend("x-refers" = "link"))]
    pub link: Name,
    /// The file with its point list, relative to gateway.toml; several devices may use one. When left out, the
    /// list is called after the device: points/NAME.csv.
    #[serde(default)]
    #[schemars(extend("format" = "list-path"))]
    pub points: String,
}

/// Whether a point can be commanded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// It is only read.
    #[default]
    Read,
    /// It is read and written, by people here and by hosts where an uplink takes commands.
    ReadWrite,
    /// It is read and written, by people here only.
    ReadWriteLocal,
}

/// What is asked before somebody commands a point by hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CommandConfirm {
    /// Nothing.
    None,
    /// Whether it is meant, with the old and the new value.
    #[default]
    Once,
    /// For the value once more.
    Typed,
}

impl CommandConfirm {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    const fn is_once(&self) -> bool {
        matches!(self, Self::Once)
    }
}

/// One row of a point list, as far as it is the same for every protocol.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PointSettings {
    /// Its name, unique in the device.
    pub name: PointName,
    /// Where it lives, in the words of the device's protocol.
    #[schemars(with = "String")]
    pub address: EcoString,
    /// What many points of a list have in common: points in which it is the same share it.
    #[serde(flatten)]
    pub traits: Arc<PointTraits>,
    /// What people call it.
    #[serde(default)]
    #[schemars(with = "String")]
    pub title: EcoString,
}

/// What a point has in common with others: how its value is made, when it is read and when it goes up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PointTraits {
    /// How the device represents it.
    #[serde(rename = "type", default)]
    pub data_type: DataType,
    /// Engineering value = raw × scale + offset.
    #[serde(default = "one")]
    #[schemars(extend("x-for" = "numbers"))]
    pub scale: f64,
    /// Engineering value = raw × scale + offset.
    #[serde(default)]
    #[schemars(extend("x-for" = "numbers"))]
    pub offset: f64,
    /// In place of scale and offset: two ends of the raw value laid on two of the engineering value, such as
    /// 0..27648 -> -50..150.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true, "x-for" = "numbers"))]
    pub span: Option<TwoEndedSpan>,
    /// Whether values beyond the ends of the span are held at them.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false, "x-for" = "numbers"))]
    pub clamp: bool,
    /// Whether the square root is taken between the ends of the span: flow from a differential pressure.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false, "x-for" = "numbers"))]
    pub root: bool,
    /// Whether a bit is turned: 0 is on.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "default" = false, "x-for" = "bits"))]
    pub invert: bool,
    /// Words for whole numbers, such as 0=stopped;1=running.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true, "x-for" = "whole-numbers"))]
    pub enumeration: Option<Enumeration>,
    /// Unit of the engineering value.
    #[serde(default)]
    pub unit: String,
    /// The sampling period: a name from `[rates]`.
    #[schemars(extend("x-refers" = "rate"))]
    pub rate: Name,
    /// When its value goes up.
    #[serde(default)]
    pub report: Report,
    /// By how much it must move to go up on change, in engineering units.
    #[serde(default)]
    #[schemars(range(min = 0.0), extend("x-for" = "numbers"))]
    pub deadband: f64,
    /// The same in percent of the range from low to high, in place of the deadband.
    #[serde(default, skip_serializing_if = "is_zero")]
    #[schemars(range(min = 0.0, max = 100.0), extend("x-advanced" = true, "default" = 0.0, "x-for" = "numbers"))]
    pub deadband_percent: f64,
    /// No sooner than this after the one before does a change go up; a change of quality always does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub min_interval: Option<Span>,
    /// Whether it can be commanded.
    #[serde(default)]
    pub access: Access,
    /// What the console asks before it commands: nothing, once with the old and the new value, or for the value to be typed again.
    #[serde(default, skip_serializing_if = "CommandConfirm::is_once")]
    #[schemars(extend("x-advanced" = true, "default" = "once"))]
    pub confirm: CommandConfirm,
    /// How long a commanded value holds; unless it is commanded anew by then, the safe value is written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub lifetime: Option<Span>,
    /// What is written when a commanded value has outlived its lifetime, as an engineering value; relinquish gives an object with
    /// priorities back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub safe_value: Option<Box<str>>,
    /// Engineering values below are doubtful.
    #[serde(default)]
    #[schemars(extend("x-for" = "numbers"))]
    pub low: Option<f64>,
    /// Engineering values above are doubtful.
    #[serde(default)]
    #[schemars(extend("x-for" = "numbers"))]
    pub high: Option<f64>,
    /// Words to choose points by, with ; between them: billing;energy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true, "x-behind" = "title"))]
    pub labels: Option<Box<str>>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
fn is_zero(number: &f64) -> bool {
    *number == 0.0
}

fn one() -> f64 {
    1.0
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
pub(super) const fn is_false(bit: &bool) -> bool {
    !*bit
}

impl Deref for PointSettings {
    type Target = PointTraits;

    fn deref(&self) -> &PointTraits {
        &self.traits
    }
}

impl DerefMut for PointSettings {
    fn deref_mut(&mut self) -> &mut PointTraits {
        Arc::make_mut(&mut self.traits)
    }
}

impl PointSettings {
    /// Reads a row; what it has of its protocol is passed over.
    #[must_use]
    pub fn of_row(row: &Row) -> Option<Self> {
        #[derive(Deserialize)]
        struct Own {
            name: PointName,
            address: EcoString,
            #[serde(default)]
            title: EcoString,
        }
        let Own { name, address, title } = row.read()?;
        Some(Self { name, address, traits: row.read()?, title })
    }
}

impl PointTraits {
    /// Its labels, one by one.
    pub fn labels(&self) -> impl Iterator<Item = &str> {
        self.labels.as_deref().unwrap_or_default().split(';').map(str::trim).filter(|label| !label.is_empty())
    }

    /// By how much it must move to go up on change, in engineering units.
    #[must_use]
    pub fn deadband(&self) -> f64 {
        match (self.low, self.high) {
            (Some(low), Some(high)) if self.deadband_percent > 0.0 => (high - low) * self.deadband_percent / 100.0,
            _ => self.deadband,
        }
    }

    /// From its raw to its engineering value, with a scale that is multiplied with what its device has of its own.
    pub(super) fn shaping(&self, factor: f64) -> Shaping {
        match (self.span, &self.enumeration) {
            (Some(span), _) => Shaping::span(span, self.clamp, self.root),
            (None, Some(words)) => Shaping::words(words.clone()),
            (None, None) if self.invert => Shaping::invert(),
            (None, None) => Shaping::linear(self.scale * factor, self.offset),
        }
    }
}

/// Reads the part of an object that one type describes; keys of its other parts are passed over.
pub(super) fn part<T: DeserializeOwned>(object: &Value) -> Option<T> {
    T::deserialize(object).ok()
}

/// Types that are written as text in the files: serde by their own `FromStr` and `Display`.
macro_rules! text_type {
    ($type:ty, $name:literal, $format:literal) => {
        impl Serialize for $type {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = String::deserialize(deserializer)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }

        text_schema!($type, $name, $format);
    };
}

macro_rules! text_schema {
    ($type:ty, $name:literal, $format:literal) => {
        impl JsonSchema for $type {
            fn schema_name() -> Cow<'static, str> {
                $name.into()
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

pub(super) use {text_schema, text_type};

text_type!(DataType, "DataType", "data-type");
text_type!(Report, "Report", "report");
text_type!(TwoEndedSpan, "TwoEndedSpan", "two-ended-span");
text_type!(Enumeration, "Enumeration", "enumeration");
text_type!(AutoParts, "AutoParts", "auto-parts");
text_type!(Holes, "Holes", "holes");
