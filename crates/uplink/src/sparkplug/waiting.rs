//! What a session waits for: births that are due, a primary host in doubt.

use std::time::Duration;
use tokio::time::Instant;

/// Births are no closer together, however often hosts ask for them.
const BETWEEN_BIRTHS: Duration = Duration::from_secs(1);
/// When births are due.
#[derive(Debug, Default)]
pub(super) struct Births {
    pub(super) due: Option<Instant>,
    pub(super) last: Option<Instant>,
}

impl Births {
    /// A new session begins.
    pub(super) const fn begin(&mut self) {
        self.due = None;
    }

    /// They are wanted, as soon as it may be.
    pub(super) fn ask(&mut self, now: Instant) {
        self.due = Some(self.last.map_or(now, |last| now.max(last + BETWEEN_BIRTHS)));
    }

    /// Whether they are due; then they are not any more.
    pub(super) fn take_due(&mut self, now: Instant) -> bool {
        let is_due = self.due.is_some_and(|due| now >= due);
        if is_due {
            (self.due, self.last) = (None, Some(now));
        }
        is_due
    }
}

/// How long a broker is given to tell the primary host's STATE, where there are others to go to.
const AWAIT_HOST: Duration = Duration::from_secs(5);

/// What is not known yet of the primary host.
#[derive(Debug)]
pub(super) struct HostDoubt {
    /// Since when the session waits for it.
    awaiting_since: Option<Instant>,
    /// Until when history is held, while it is in doubt.
    pub(super) until: Option<Instant>,
    /// The time of its STATE that the database knows.
    pub(super) kept: Option<u64>,
}

impl HostDoubt {
    pub(super) const fn new(kept: Option<u64>) -> Self {
        Self { awaiting_since: None, until: None, kept }
    }

    /// A new session begins.
    pub(super) const fn begin(&mut self) {
        (self.awaiting_since, self.until) = (None, None);
    }

    pub(super) fn await_host(&mut self) {
        self.awaiting_since = Some(Instant::now());
    }

    /// It is there, or none is waited for.
    pub(super) const fn has_host(&mut self) {
        self.awaiting_since = None;
    }

    pub(super) const fn begin_grace(&mut self, until: Option<Instant>) {
        self.until = until;
    }

    /// Whether it was waited for long enough.
    pub(super) fn has_awaited_host(&self) -> bool {
        self.awaiting_since.is_some_and(|since| since.elapsed() > AWAIT_HOST)
    }
}
