use interlex_core::{Clock, Timestamp};
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::process::Command;
use tokio::time::{interval, timeout};

/// The clock of the system.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

/// Whether the system says that nothing keeps its clock right.
static IS_ADRIFT: AtomicBool = AtomicBool::new(false);
static IS_WATCHED: AtomicBool = AtomicBool::new(false);
/// How often the system is asked, and how long it may take to answer.
const ASKED: Duration = Duration::from_secs(60);
const ANSWERS: Duration = Duration::from_secs(5);

impl Clock for SystemClock {
    #[expect(clippy::disallowed_methods, reason = "the one place where the wall clock is read")]
    fn micros(&self) -> i64 {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
    }

    fn is_synchronized(&self) -> bool {
        !IS_ADRIFT.load(Ordering::Relaxed)
    }
}

/// The time of day, for the edges of the service; rules about time take a [`Timestamp`].
#[must_use]
pub fn wall_clock() -> Timestamp {
    SystemClock.now()
}

/// Asks the system again and again whether something keeps its clock right. Where it cannot say, as in a container, its clock is
/// believed.
pub(crate) fn watch_clock() {
    if IS_WATCHED.swap(true, Ordering::Relaxed) {
        return;
    }
    tokio::spawn(async {
        let mut ticks = interval(ASKED);
        loop {
            ticks.tick().await;
            let is_adrift = synchronized().await == Some(false);
            if IS_ADRIFT.swap(is_adrift, Ordering::Relaxed) != is_adrift {
                match is_adrift {
                    true => tracing::warn!("the clock of this machine is not synchronised: no clock is set by it"),
                    false => tracing::info!("the clock of this machine is synchronised"),
                }
            }
        }
    });
}

/// What the kernel knows of its clock, whatever keeps that right.
async fn synchronized() -> Option<bool> {
    let mut asking = Command::new("timedatectl");
    asking.args(["show", "--property=NTPSynchronized", "--value"]).stdin(Stdio::null()).kill_on_drop(true);
    let said = timeout(ANSWERS, asking.output()).await.ok()?.ok()?;
    said_of(&String::from_utf8(said.stdout).ok()?)
}

fn said_of(text: &str) -> Option<bool> {
    match text.trim() {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::said_of;

    #[test]
    fn what_cannot_be_said_is_not_held_against_the_clock() {
        assert_eq!((said_of("yes\n"), said_of("no\n"), said_of("")), (Some(true), Some(false), None));
    }
}
