//! A server: sessions of many clients over channels that come and go.
//!
//! Source: OPC 10000-4, section 5.7.

mod description;
mod engine;
mod limits;
mod points;
mod sessions;
mod standing;
mod subscriptions;
mod users;
mod values;
mod views;

pub use description::ServerDescription;
pub use engine::{Answer, Now, Process, Server};
pub use limits::ServerLimits;
pub use sessions::{ChannelInfo, Handled, Sessions};
pub use users::{User, Users};
