//! When a device is looked at: once something is due, or came for it. Nobody pays for the others of a link.

use super::{CONFIRMED_EVERY, ON_ITS_WAY, Remote, Stage};
use std::time::{Duration, Instant};

/// One for which nothing is due is looked at all the same; and one for which something is due that cannot be done yet.
const RESTS: (Duration, Duration) = (Duration::from_millis(1), Duration::from_secs(60));

impl Remote {
    /// Something came for it.
    pub(in crate::bacnet) const fn wake(&mut self) {
        self.rests_until = None;
    }

    /// Until when nothing is to be done with it.
    pub(in crate::bacnet) fn rest(&self, now: Instant) -> Option<Instant> {
        self.rests_until.filter(|until| *until > now)
    }

    /// It was looked at: until when nothing is to be done with it. One that waits for others is woken once they are done.
    pub(in crate::bacnet) fn lies_down(&mut self, now: Instant, waits_for_others: bool) {
        let confirms = self.confirmed.filter(|_| self.is_watched()).map(|at| at + CONFIRMED_EVERY);
        let due = if waits_for_others { self.binding.due(self.silence.is_some()) } else { self.due(now) };
        let wait = due.into_iter().chain(confirms).min().map_or(RESTS.1, |due| due.saturating_duration_since(now));
        self.rests_until = Some(now + wait.clamp(RESTS.0, RESTS.1));
    }

    /// It is asked for at once, where nobody knows where it is: whoever was asked before was not heard.
    pub(in crate::bacnet) const fn ask_anew(&mut self, now: Instant) {
        self.wake();
        self.binding.ask_now(now);
    }

    /// When there is something to do.
    fn due(&self, now: Instant) -> Option<Instant> {
        let asks = self.binding.due(self.silence.is_some());
        let errands = self
            .errands
            .iter()
            .map(|waiting| if self.binding.peer().is_none() { waiting.until } else { waiting.wakes.unwrap_or(now) });
        let errands = errands.min();
        if self.is_busy() {
            return asks;
        }
        if self.again.is_some() {
            return Some(now);
        }
        if self.binding.peer().is_none() {
            return asks.into_iter().chain(errands).min();
        }
        if self.binding.contest().is_some() {
            return Some(now);
        }
        let work = match (&self.silence, self.place) {
            (_, None) => None,
            (Some(silence), _) => Some(silence.probe_at),
            (None, _) if self.stage == Stage::New => Some(now),
            (None, _) => {
                let doubts = self.check.doubts.values().map(|since| *since + ON_ITS_WAY);
                let backfill = self.backfill.as_ref().filter(|backfill| self.is_up && backfill.is_due()).map(|_| now);
                let watched = [self.watches.due(), Some(self.check.due), backfill].into_iter().flatten();
                self.rounds.due(now).into_iter().chain(watched).chain(doubts).min()
            }
        };
        asks.into_iter().chain(errands).chain(work).min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bacnet::errand::Identify;
    use crate::link::CommandId;
    use interlex_core::description::BacnetDevice;

    #[test]
    fn one_that_waits_for_others_lies_down_until_it_is_woken() {
        let now = tokio::time::Instant::now().into_std();
        let own: BacnetDevice = serde_json::from_str(r#"{"instance": 7, "host": "127.0.0.7"}"#).unwrap();
        let mut remote = Remote::guest(&own, 47_808, Duration::from_secs(3), now);
        assert_eq!(remote.rest(now), None, "a new one is looked at");
        remote.lies_down(now, false);
        assert_eq!(remote.rest(now), Some(now + RESTS.1), "nothing is due");
        remote.submit(CommandId(1), Box::new(Identify::new(7)), now);
        assert_eq!((remote.rest(now), remote.due(now)), (None, Some(now)));
        remote.lies_down(now, true);
        assert_eq!(remote.rest(now), Some(now + RESTS.1), "its turn comes once another one is done");
        remote.wake();
        assert_eq!(remote.rest(now), None);
        remote.lies_down(now, false);
        assert_eq!(remote.rest(now), Some(now + RESTS.0), "what cannot be done at once is not tried without a pause");
    }
}
