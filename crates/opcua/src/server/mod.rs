//! A server: sessions of many clients over channels that come and go.
//!
//! Source: OPC 10000-4, section 5.7.

mod description;
mod sessions;
mod users;

pub use description::ServerDescription;
pub use sessions::{ChannelInfo, Handled, Sessions};
pub use users::{User, Users};
