use interlex_core::{LinkStatus, UplinkStatus};
use serde::Serialize;

/// A gateway, as `status` shows it.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct GatewayStatus {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// The number of the running revision.
    pub revision: u32,
    /// When that revision was activated, in milliseconds since 1970 UTC.
    pub activated_at: i64,
    /// Since when it runs, in milliseconds since 1970 UTC.
    pub since: i64,
    /// How many points it has.
    pub points: usize,
    /// How many of them are good right now.
    pub points_good: usize,
    /// Its links with their devices.
    pub links: Vec<LinkStatus>,
    /// Its uplinks.
    pub uplinks: Vec<UplinkStatus>,
}
