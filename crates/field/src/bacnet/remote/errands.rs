//! What is done once with a device, and waits until it is its turn.

use super::{BINDS_WITHIN, Purpose, Remote, Waiting};
use crate::bacnet::errand::{Errand, Step};
use crate::link::{Answer, CommandId, End, Outcome, Outcomes};
use interlex_bacnet::ConfirmedService;
use std::time::Instant;

impl Remote {
    pub(super) fn next_errand(
        &mut self,
        now: Instant,
        newest_frame: u64,
        out: &mut Outcomes,
    ) -> Option<(CommandId, ConfirmedService, Vec<u8>)> {
        let mut at = 0;
        while let Some(waiting) = self.errands.get_mut(at) {
            match waiting.errand.next(&self.ways, now) {
                Step::Ask(service, data) => {
                    (waiting.is_sent, waiting.after) = (true, newest_frame);
                    return Some((waiting.id, service, data));
                }
                Step::Wait(until) => {
                    waiting.wakes = Some(until);
                    at += 1;
                }
                Step::Done(answer) => {
                    let id = waiting.id;
                    self.errands.remove(at);
                    out.push(Outcome::Answered(id, *answer));
                }
            }
        }
        None
    }

    /// Takes something that is to be done once.
    pub(in crate::bacnet) fn submit(&mut self, id: CommandId, errand: Box<dyn Errand>, now: Instant) {
        self.ask_anew(now);
        let until = now + BINDS_WITHIN;
        self.errands.push_back(Waiting { id, errand, until, is_sent: false, after: 0, wakes: None });
    }

    /// How many wait.
    pub(in crate::bacnet) fn errands(&self) -> usize {
        self.errands.len()
    }

    /// Whoever waits until it is known where the device is, waits no longer.
    pub(super) fn end_unbound(&mut self, now: Instant, out: &mut Outcomes) {
        if self.binding.peer().is_some() {
            return;
        }
        let target = self.who();
        self.errands.retain_mut(|waiting| {
            let is_over = waiting.until <= now;
            if is_over {
                let why = "nobody says that it has this instance";
                let answer = waiting.errand.given_up(&End { target: &target, why, is_sent: false });
                out.push(Outcome::Answered(waiting.id, answer));
            }
            !is_over
        });
    }

    /// Whoever asked does not want it any more.
    pub(in crate::bacnet) fn cancel(&mut self, id: CommandId, why: &str) -> Option<Answer> {
        let at = self.errands.iter().position(|waiting| waiting.id == id)?;
        let mut waiting = self.errands.remove(at)?;
        self.wake();
        let is_out = self.under_way.as_ref().is_some_and(|of| matches!(of.purpose, Purpose::Errand(out) if out == id));
        let target = self.who();
        Some(waiting.errand.given_up(&End { target: &target, why, is_sent: is_out }))
    }

    /// All that waits is given up.
    pub(in crate::bacnet) fn give_up(&mut self, why: &str, out: &mut Outcomes) {
        while let Some(id) = self.errands.front().map(|waiting| waiting.id) {
            if let Some(answer) = self.cancel(id, why) {
                out.push(Outcome::Answered(id, answer));
            }
        }
    }

    /// From which frame on the request of an errand under way is recorded.
    pub(in crate::bacnet) fn frames_after(&self) -> Option<u64> {
        let Purpose::Errand(id) = self.under_way.as_ref()?.purpose else { return None };
        self.errands.iter().find(|waiting| waiting.id == id).map(|waiting| waiting.after)
    }
}
