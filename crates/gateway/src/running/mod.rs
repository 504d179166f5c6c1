//! What runs right now, and what can be asked of it.

mod losses;
mod state;
mod status;

pub use losses::WaitingLoss;
pub use state::Running;
pub(crate) use state::RunningUplink;
pub use status::GatewayStatus;
