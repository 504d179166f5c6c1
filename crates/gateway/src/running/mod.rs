//! What runs right now, and what can be asked of it.

mod keeper;
mod losses;
mod state;
mod status;

pub(crate) use keeper::StoreKeeper;
pub use losses::WaitingLoss;
pub use state::Running;
pub(crate) use state::RunningUplink;
pub use status::GatewayStatus;
