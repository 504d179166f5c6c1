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
use std::io;
use std::time::{Duration, Instant as StdInstant, SystemTime, UNIX_EPOCH};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;

#[expect(clippy::disallowed_methods, reason = "a driver reads the clock")]
fn now() -> Now {
    let wall = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    (Instant::now().into_std(), DateTime::from_unix_millis(i64::try_from(wall.as_millis()).unwrap_or(i64::MAX)))
}

/// The next connection; none once `stop` is cancelled. What concerns one client only, or passes, ends nothing.
async fn accepted(listener: &TcpListener, stop: &CancellationToken) -> io::Result<Option<TcpStream>> {
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => return Ok(None),
        };
        match accepted {
            Ok((stream, _)) => return Ok(Some(stream)),
            Err(error) if is_of_client(&error) => tokio::task::yield_now().await,
            // Others have all the files that there may be open: some will be closed.
            Err(error) if matches!(error.raw_os_error(), Some(ENFILE | EMFILE)) => sleep(PAUSE).await,
            Err(error) => return Err(error),
        }
    }
}

const ENFILE: i32 = 23;
const EMFILE: i32 = 24;
const PAUSE: Duration = Duration::from_millis(100);

fn is_of_client(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset | io::ErrorKind::Interrupted
    )
}

fn closed() -> io::Error {
    io::Error::new(io::ErrorKind::UnexpectedEof, "the server closed the connection")
}

/// Waits until then, or for ever.
async fn until(due: Option<StdInstant>) {
    match due {
        Some(due) => sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}
