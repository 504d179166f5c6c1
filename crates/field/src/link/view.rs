use serde::Serialize;

/// One request that devices are sent again and again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct RequestView {
    /// The device; several where they share what is asked.
    pub devices: Vec<String>,
    /// What it reads, in the words of the protocol: `holding registers 16 to 20`.
    pub reads: String,
    /// How often, in milliseconds.
    pub period_ms: u64,
    /// The points that it reads.
    pub points: Vec<String>,
    /// Whether it is what was planned, and not a part of a request that had to be cut.
    pub as_planned: bool,
    /// Why it gives no value; it is asked seldom then.
    pub bad: Option<String>,
    /// When the planned request is tried whole again, in milliseconds from now.
    pub whole_again_in_ms: Option<u64>,
}
