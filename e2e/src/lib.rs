//! What the end-to-end tests stand on: the real binary with a real MariaDB, a real Mosquitto and the plant, each a
//! process and at an address of loopback of its own, and eyes that know nothing of Interlex's code.
#![allow(
    missing_docs,
    missing_debug_implementations,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "a test harness"
)]

mod browser;
mod host;
pub mod hostile;
mod program;
mod relay;
mod rig;
mod wire;

pub use browser::Browser;
pub use host::{Arrived, Heard, Host, aliased, boolean, double, float, named, null};
pub use program::{Output, Program, run};
pub use relay::Relay;
pub use rig::{PASSWORD, PERSON, Rig};
pub use wire::{Field, fields, text, varint};

use std::future::Future;
use std::time::Duration;

/// Generous: a loaded machine is slow, and a condition that holds ends the wait at once.
pub const PATIENCE: Duration = Duration::from_secs(90);

/// Waits until `condition` gives something, and panics with `what` when that takes too long.
pub async fn wait_for<T, F: Future<Output = Option<T>>>(what: &str, mut condition: impl FnMut() -> F) -> T {
    let polling = async {
        loop {
            if let Some(found) = condition().await {
                return found;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::time::timeout(PATIENCE, polling).await.unwrap_or_else(|_| panic!("waited in vain: {what}"))
}
