use crate::Framing;
use std::time::{Duration, Instant};

/// The answers that units of a line still owe: a request timed out, and its answer may come all the same.
///
/// On a serial line nothing pairs an answer with its request but unit, function and order. So as long as an answer is owed,
/// nothing is asked that it could be taken for: no request of the same function to the same unit. Carry it from one
/// connection to the next, since a converter may deliver after a reconnect what it took in before.
#[derive(Debug, Clone, Default)]
pub struct OwedAnswers {
    /// One for each unit and function at the most: there is nothing asked while one is owed.
    owed: Vec<Owed>,
}

#[derive(Debug, Clone, Copy)]
struct Owed {
    unit: u8,
    function: u8,
    /// When the request went out; `None` when an answer came to nothing that was asked.
    sent: Option<Instant>,
    until: Instant,
}

impl OwedAnswers {
    /// An answer of a function of a unit may come until then.
    pub(crate) fn add(&mut self, (unit, function): (u8, u8), sent: Option<Instant>, until: Instant) {
        self.owed.retain(|owed| (owed.unit, owed.function) != (unit, function));
        self.owed.push(Owed { unit, function, sent, until });
    }

    /// A frame came that nothing outstanding was waiting for. Tells how long after its request, when one is owed. Another
    /// copy may follow closely: what it could fit waits for `copies` more.
    pub(crate) fn take(&mut self, now: Instant, (unit, function): (u8, u8), copies: Duration) -> Option<Duration> {
        let owed = self.owed.iter_mut().find(|owed| (owed.unit, owed.function) == (unit, function))?;
        let sent = owed.sent.take()?;
        owed.until = owed.until.min(now + copies);
        Some(now.saturating_duration_since(sent))
    }

    /// When a request may go out; `None` when it may at once.
    pub(crate) fn held_until(&self, now: Instant, unit: u8, function: u8) -> Option<Instant> {
        let held = self.owed.iter().find(|owed| (owed.unit, owed.function) == (unit, function))?;
        (now < held.until).then_some(held.until)
    }

    /// Forgets what has run out.
    pub(crate) fn expire(&mut self, now: Instant) {
        self.owed.retain(|owed| now < owed.until);
    }

    /// Whether nothing is owed.
    pub(crate) const fn is_empty(&self) -> bool {
        self.owed.is_empty()
    }

    /// When the next of them runs out.
    pub(crate) fn next_end(&self) -> Option<Instant> {
        self.owed.iter().map(|owed| owed.until).min()
    }
}

/// Whether answers of a framing carry nothing that pairs them with their request.
pub(crate) const fn pairs_by_order(framing: Framing) -> bool {
    matches!(framing, Framing::Rtu | Framing::Ascii)
}
