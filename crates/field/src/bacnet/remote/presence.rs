//! Whether a device is there, and whether it is the one that is meant.

use super::{PROBES, Remote, Silence, Stage};
use crate::bacnet::backfill::Backfill;
use crate::bacnet::binding::{Heard, Verdict};
use crate::link::{DeviceEvent, Outcomes};
use interlex_bacnet::{Failure, IAm, MaxApdu, Peer};
use interlex_core::Reason;
use std::time::Instant;

impl Remote {
    /// A device says who it is.
    pub(in crate::bacnet) fn heard_i_am(&mut self, now: Instant, from: Peer, told: &IAm, out: &mut Outcomes) {
        self.wake();
        let is_silent = self.silence.as_ref().is_some_and(|silence| silence.is_told);
        match self.binding.heard(now, from, told, is_silent) {
            Heard::Nothing => {}
            Heard::Found => {
                self.ways.max_apdu = self.ways.max_apdu.min(MaxApdu::within(told.max_apdu));
                self.ways.segmentation = told.segmentation;
                self.stage = Stage::New;
                // Nothing could be asked for before.
                self.rounds.restart(now);
            }
            // It may have started anew, and know nothing of what was subscribed to.
            Heard::Again if self.stage == Stage::Known && self.silence.is_none() => {
                if self.watches.active() > 0 {
                    self.watches.forget(now);
                    self.rounds.restart(now);
                }
            }
            Heard::Again => {
                if let Some(silence) = &mut self.silence {
                    silence.probe_at = now;
                }
            }
            Heard::Rival => {
                let why = format!("{}: {from} says that it has this instance, too", self.who());
                self.event(DeviceEvent::Error(why), out);
            }
        }
    }

    pub(super) fn contested(&mut self, now: Instant, outcome: &Result<Vec<u8>, Failure>, out: &mut Outcomes) {
        // Another device answers that it has no such object.
        match self.binding.contested(outcome.is_ok()) {
            None | Some(Verdict::Nothing) => {}
            Some(Verdict::Moved(to)) => {
                tracing::info!(device = self.name(), %to, "it has moved");
                self.begin_anew(now);
            }
            Some(Verdict::Double(other)) => {
                let why = format!(
                    "{}: {} and {other} both have this instance; nothing is written until host says which one is meant",
                    self.who(),
                    self.place_words()
                );
                self.event(DeviceEvent::Error(why), out);
            }
        }
    }

    /// A request got no answer, however often it was sent.
    pub(super) fn fell_silent(&mut self, now: Instant, suspect: Option<usize>, out: &mut Outcomes) {
        let Some(silence) = &mut self.silence else {
            // At once it is asked for what every device has: one property may be what it cannot answer.
            self.silence = Some(Silence { probe_at: now, wait: PROBES.0, suspect, is_told: false });
            return;
        };
        (silence.probe_at, silence.suspect) = (now + silence.wait, None);
        silence.wait = (silence.wait * 2).min(PROBES.1);
        let is_news = !std::mem::replace(&mut silence.is_told, true);
        self.binding.is_silent(now);
        self.is_up = false;
        let why =
            format!("{}: no answer from {}, asked {} times", self.who(), self.place_words(), self.ways.retries + 1);
        self.event(DeviceEvent::Silent(Reason::Timeout, why), out);
        if is_news {
            // What it forgets meanwhile is not known.
            self.watches.forget(now);
            self.backfill.iter_mut().for_each(Backfill::is_away);
            self.items.iter_mut().for_each(|item| (item.was_tried, item.last) = (false, None));
        }
    }

    /// It answers.
    pub(super) fn is_back(&mut self, now: Instant, out: &mut Outcomes) {
        let Some(silence) = self.silence.take() else { return };
        if silence.is_told {
            self.stage = Stage::New;
            self.rounds.restart(now);
            return;
        }
        // It answers all others: that one alone is what it does not answer.
        if let Some(at) = silence.suspect
            && let Some(item) = self.items.get_mut(at)
        {
            let mut batch = Vec::new();
            item.fail(Reason::Timeout, now, &mut batch);
            let why = format!(
                "{}: no answer for {} {}",
                self.who(),
                self.items.get(at).map_or_else(String::new, |item| item.object.to_string()),
                self.items.get(at).map_or_else(String::new, |item| item.reference.to_string())
            );
            self.event(DeviceEvent::Error(why), out);
            self.tell(batch, Vec::new(), out);
            self.came_up(out);
        }
    }

    /// At its address is another device: what that says is nothing of this one.
    pub(super) fn is_another(&mut self, now: Instant, out: &mut Outcomes) {
        let wait = self.silence.as_ref().map_or(PROBES.0, |silence| silence.wait);
        let wait_next = (wait * 2).min(PROBES.1);
        self.silence = Some(Silence { probe_at: now + wait, wait: wait_next, suspect: None, is_told: true });
        (self.stage, self.is_up) = (Stage::New, false);
        self.binding.is_silent(now);
        self.watches.forget(now);
        self.items.iter_mut().for_each(|item| (item.was_tried, item.last) = (false, None));
        let why = format!("{}: at {} is another device", self.who(), self.place_words());
        let error = interlex_bacnet::Error::UNKNOWN_OBJECT;
        let reason = crate::bacnet::mapping::unread(&crate::bacnet::many::Unread::Error(error));
        self.event(DeviceEvent::Silent(reason, why), out);
    }

    pub(super) fn place_words(&self) -> String {
        self.binding.peer().map_or_else(|| "an unknown address".to_owned(), |peer| peer.to_string())
    }

    /// A router does not lead to it any more.
    pub(in crate::bacnet) fn not_routed(
        &mut self,
        router: std::net::SocketAddrV4,
        network: u16,
        reason: u8,
        out: &mut Outcomes,
    ) {
        if self.binding.lost_router(router, network) {
            self.wake();
            let why =
                format!("{}: the router {router} leads to network {network} no more, reason {reason}", self.who());
            self.event(DeviceEvent::Error(why), out);
        }
    }
}
