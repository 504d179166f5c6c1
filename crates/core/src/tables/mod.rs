//! What every running part of a gateway shares: its points, and what is known of them.

mod inventory;
mod latest;
mod points;
mod recent;

pub use inventory::Inventory;
pub use latest::{LatestTable, Reading};
pub use points::{PointInfo, PointTable};
pub use recent::{RecentValue, RecentValues, RecentWriter};
