use super::frames::FrameView;
use interlex_core::Value;
use interlex_core::description::{Device, Link, Point};
use serde::Serialize;

/// A read done once, now, of a point that need not be described anywhere.
#[derive(Debug, Clone)]
pub struct TrialRead {
    /// How to get there.
    pub link: Link,
    /// Whom to ask.
    pub device: Device,
    /// What for.
    pub point: Point,
    /// Whether the neighbours are read too, so that every plausible type and order can be looked at side by side.
    pub neighbours: bool,
    /// The value that the device's own display shows.
    pub expected: Option<f64>,
}

/// What the registers would say as another type, in another order, or one address off.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialAlternative {
    /// The address.
    pub address: String,
    /// The type.
    #[serde(rename = "type")]
    pub data_type: String,
    /// The byte order; none for a single register in its usual order.
    pub order: Option<&'static str>,
    /// The value before shaping.
    #[schema(value_type = serde_json::Value)]
    pub value: Value,
    /// The scale under which it is the expected value.
    pub scale: Option<f64>,
}

/// What a trial brought.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialReading {
    /// The address, in its canonical form.
    pub address: String,
    /// The registers or bits as they came.
    pub registers: Vec<u16>,
    /// The value before shaping; `null` when the registers do not make one.
    #[schema(value_type = serde_json::Value)]
    pub raw: Option<Value>,
    /// The engineering value.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// Its unit.
    pub unit: String,
    /// How long the answer took, in milliseconds.
    pub answer_ms: f64,
    /// Whether it went over a connection that was open for the running gateway.
    pub shared_connection: bool,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
    /// Every plausible type and order side by side, when it was asked for; those near the expected value first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub alternatives: Vec<TrialAlternative>,
    /// What else the device said with the value, where its protocol says more: status, times, type.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub said: Vec<Said>,
}

/// One thing that a device said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct Said {
    /// What it is.
    pub what: &'static str,
    /// In words.
    pub value: String,
}

impl Said {
    /// Something in words.
    pub(crate) fn new(what: &'static str, value: impl ToString) -> Self {
        Self { what, value: value.to_string() }
    }
}
