use crate::network::{Bvll, BvllResult};
use std::net::SocketAddrV4;
use std::time::{Duration, Instant};

/// How a node hears the broadcasts of another network.
///
/// Source: ASHRAE 135-2016, annex J.5.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ForeignDevice {
    /// The broadcast management device of that network.
    pub bbmd: SocketAddrV4,
    /// For how many seconds one registration lasts; it is renewed at half of that.
    pub time_to_live: u16,
}

/// After how long one that was not answered is sent again.
const AGAIN: Duration = Duration::from_secs(5);

/// The registration at a broadcast management device.
#[derive(Debug)]
pub(super) struct Registration {
    pub(super) terms: ForeignDevice,
    due: Option<Instant>,
    is_answered: bool,
    pub(super) is_registered: bool,
}

impl Registration {
    pub(super) const fn new(terms: ForeignDevice) -> Self {
        Self { terms, due: None, is_answered: false, is_registered: false }
    }

    /// When to register next; at once when nothing was done yet.
    pub(super) const fn due(&self) -> Option<Instant> {
        self.due
    }

    /// What is to be sent now.
    pub(super) fn poll(&mut self, now: Instant) -> Option<Bvll<'static>> {
        if self.due.is_some_and(|due| due > now) {
            return None;
        }
        // The last one was not answered either.
        if !std::mem::take(&mut self.is_answered) && self.due.is_some() {
            self.is_registered = false;
        }
        self.due = Some(now + AGAIN);
        Some(Bvll::RegisterForeignDevice { time_to_live: self.terms.time_to_live })
    }

    /// Our broadcast management device said what became of something.
    pub(super) fn told(&mut self, result: BvllResult, now: Instant) {
        match result {
            BvllResult::SUCCESS => {
                (self.is_answered, self.is_registered) = (true, true);
                let half = Duration::from_secs(self.terms.time_to_live.into()) / 2;
                self.due = Some(now + half.max(Duration::from_secs(1)));
            }
            BvllResult::REGISTER_NAK => {
                (self.is_answered, self.is_registered) = (true, false);
                self.due = Some(now + AGAIN);
            }
            // It has forgotten us.
            BvllResult::DISTRIBUTE_NAK => {
                self.is_registered = false;
                self.due = Some(now);
            }
            _ => {}
        }
    }
}
