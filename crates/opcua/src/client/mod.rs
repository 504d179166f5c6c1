//! A client: a session with a server, over connections that come and go.
//!
//! Source: OPC 10000-4, sections 5.7 and 6.7.

mod backfill;
mod config;
mod endpoints;
mod entering;
mod error;
mod follower;
mod identity;
mod requests;
mod session;
mod subscriber;
mod watcher;

pub use backfill::{Backfill, BackfillConfig, BackfillEvent, MissedValues};
pub use config::ClientSessionConfig;
pub use endpoints::{EndpointDifference, same_endpoints};
pub use error::{RequestError, SessionError};
pub use follower::{FollowEvent, Follower};
pub use identity::UserIdentity;
pub use session::{ClientSession, ClientSessionEvent};
pub use subscriber::{Asked, News, Notification, Subscriber};
pub use watcher::{ItemPlace, WatchConfig, WatchEvent, WatchedGroup, WatchedItem, Watcher};
