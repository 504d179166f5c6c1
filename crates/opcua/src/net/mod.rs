//! Thin tokio drivers of the state machines.

mod connection;
mod discovery;
mod host;
mod reverse;

pub use connection::{Connection, ConnectionError};
pub use discovery::endpoints_of;
pub use host::{Host, HostConfig, Trust};
pub use reverse::{Expected as ExpectedServer, ExpectedTwice, ReverseDoor};

use crate::server::Now;
use crate::types::DateTime;
use std::time::{Instant as StdInstant, SystemTime, UNIX_EPOCH};
use tokio::time::{Instant, sleep_until};

#[expect(clippy::disallowed_methods, reason = "a driver reads the clock")]
fn now() -> Now {
    let wall = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    (Instant::now().into_std(), DateTime::from_unix_millis(i64::try_from(wall.as_millis()).unwrap_or(i64::MAX)))
}

/// Waits until then, or for ever.
async fn until(due: Option<StdInstant>) {
    match due {
        Some(due) => sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}
