//! Requests of others: from their first segment to the last one of their answer.
//!
//! Source: ASHRAE 135-2016, clause 5.4.5.

use super::event::{Answer, AskedId, NodeEvent};
use super::machine::{Node, Timer};
use super::segments::{Acknowledged, Sender, Taken, Taker};
use crate::apdu::{AbortReason, Apdu, ConfirmedService, RequestHeader, SegmentAck};
use crate::network::Peer;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::time::{Duration, Instant};

/// A request of somebody else.
///
/// ```text
///   Taking ──last segment──▶ Waiting ──answer──▶ done, or Sending ──all acknowledged──▶ done
///      └──── long requests only
/// ```
#[derive(Debug)]
pub(super) struct Asked {
    serial: u64,
    service: ConfirmedService,
    header: RequestHeader,
    state: State,
    mark: u64,
    deadline: Option<Instant>,
}

#[derive(Debug)]
enum State {
    Taking(Taker),
    Waiting,
    Sending { sender: Sender, tries_left: u8 },
}

/// What was answered a moment ago, should it be asked again because the answer was lost.
#[derive(Debug)]
pub(super) struct Recent {
    peer: Peer,
    invoke_id: u8,
    mark: u64,
    answer: Answer,
    until: Instant,
}

/// So many requests of others may be open: all that many devices may tell in one moment. Fewer of those that come in segments, which
/// take much more room.
const MOST_ASKED: usize = 4096;
const MOST_TAKING: usize = 64;
/// So many answers are known, and for how long: a number that comes again later is another request.
const MOST_RECENT: usize = 32;
const RECENT: Duration = Duration::from_secs(10);
/// Whoever is to answer has so long.
const OWED: Duration = Duration::from_secs(30);

fn mark(service: ConfirmedService, data: &[u8]) -> u64 {
    let mut hasher = DefaultHasher::new();
    (service, data).hash(&mut hasher);
    hasher.finish()
}

impl Node {
    pub(super) fn take_asked(
        &mut self,
        now: Instant,
        peer: Peer,
        header: &RequestHeader,
        service: ConfirmedService,
        data: &[u8],
    ) {
        let key = (peer, header.invoke_id);
        let Some(segment) = header.segment else {
            let mark = mark(service, data);
            let is_it = |recent: &&Recent| {
                (recent.peer, recent.invoke_id, recent.mark) == (peer, header.invoke_id, mark) && recent.until > now
            };
            if let Some(answer) = self.recent.iter().find(is_it).map(|recent| recent.answer.clone()) {
                return self.send_answer(now, key, service, header, &answer);
            }
            match self.asked.get(&key) {
                // It is under way.
                Some(asked) if asked.mark == mark && !matches!(asked.state, State::Taking(_)) => return,
                Some(_) => self.forget_asked(key),
                None => {}
            }
            return self.ask(now, key, header, service, data.to_vec(), mark);
        };
        let most = self.config.most_octets;
        let wait = self.config.segment_timeout * 4;
        if segment.sequence == 0 && self.asked.get(&key).is_none_or(|asked| asked.service != service) {
            let taking = self.asked.values().filter(|asked| matches!(asked.state, State::Taking(_))).count();
            if taking >= MOST_TAKING {
                return self.abort(peer, header.invoke_id, true, AbortReason::OUT_OF_RESOURCES);
            }
            let state = State::Taking(Taker::new(segment.window, self.config.window));
            self.last_id += 1;
            let asked = Asked { serial: self.last_id, service, header: *header, state, mark: 0, deadline: None };
            self.asked.insert(key, asked);
        }
        let Some(asked) = self.asked.get_mut(&key) else {
            return self.abort(peer, header.invoke_id, true, AbortReason::INVALID_APDU_IN_THIS_STATE);
        };
        let State::Taking(taker) = &mut asked.state else { return };
        let window = taker.window;
        let taken = taker.take(segment, data, most);
        let before = asked.deadline.replace(now + wait);
        self.set_deadline(Timer::Asked(key.0, key.1), before, Some(now + wait));
        match taken {
            Taken::Kept | Taken::Repeated => {}
            Taken::Acknowledge(sequence) => self.acknowledge_asked(key, sequence, window, false),
            Taken::Missing(sequence) => self.acknowledge_asked(key, sequence, window, true),
            Taken::TooMuch => {
                self.forget_asked(key);
                self.abort(peer, header.invoke_id, true, AbortReason::BUFFER_OVERFLOW);
            }
            Taken::Done(sequence) => {
                self.acknowledge_asked(key, sequence, window, false);
                let taken = self.asked.remove(&key);
                let Some(Asked { state: State::Taking(taker), deadline, header, .. }) = taken else { return };
                self.set_deadline(Timer::Asked(key.0, key.1), deadline, None);
                let data = taker.into_data();
                let mark = mark(service, &data);
                self.ask(now, key, &header, service, data, mark);
            }
        }
    }

    fn ask(
        &mut self,
        now: Instant,
        key: (Peer, u8),
        header: &RequestHeader,
        service: ConfirmedService,
        data: Vec<u8>,
        mark: u64,
    ) {
        if self.asked.len() >= MOST_ASKED {
            return self.abort(key.0, key.1, true, AbortReason::OUT_OF_RESOURCES);
        }
        self.last_id += 1;
        let serial = self.last_id;
        let deadline = Some(now + OWED);
        self.asked.insert(key, Asked { serial, service, header: *header, state: State::Waiting, mark, deadline });
        self.set_deadline(Timer::Asked(key.0, key.1), None, deadline);
        let id = AskedId { peer: key.0, invoke_id: key.1, serial };
        let room = usize::from(header.max_apdu.min(self.config.max_apdu).octets());
        self.event(NodeEvent::Asked { id, from: key.0, service, data, room });
    }

    fn acknowledge_asked(&mut self, (peer, invoke_id): (Peer, u8), sequence: u8, window: u8, is_negative: bool) {
        self.send_apdu(
            peer,
            &Apdu::SegmentAck(SegmentAck { is_negative, by_server: true, invoke_id, sequence, window }),
        );
    }

    /// Answers what somebody asked. Nothing is sent where that was given up meanwhile.
    pub fn answer(&mut self, now: Instant, id: &AskedId, answer: &Answer) {
        let key = (id.peer, id.invoke_id);
        let Some(asked) = self.asked.get(&key).filter(|asked| asked.serial == id.serial) else { return };
        let (service, header, mark) = (asked.service, asked.header, asked.mark);
        // An answer of a few octets is known for a while. What is long is asked for again.
        if !matches!(answer, Answer::Complex(_)) {
            // Who counts on has had all answers of before.
            let of_peer = self.recent.iter().filter(|recent| recent.peer == id.peer).count();
            if of_peer >= MOST_RECENT / 2
                && let Some(at) = self.recent.iter().position(|recent| recent.peer == id.peer)
            {
                self.recent.remove(at);
            }
            if self.recent.len() == MOST_RECENT {
                self.recent.pop_front();
            }
            let (peer, invoke_id, until) = (id.peer, id.invoke_id, now + RECENT);
            self.recent.retain(|recent| (recent.peer, recent.invoke_id) != key);
            self.recent.push_back(Recent { peer, invoke_id, mark, answer: answer.clone(), until });
        }
        self.send_answer(now, key, service, &header, answer);
    }

    /// Nothing is said to what somebody asked.
    pub fn drop_asked(&mut self, id: &AskedId) {
        let key = (id.peer, id.invoke_id);
        if self.asked.get(&key).is_some_and(|asked| asked.serial == id.serial) {
            self.forget_asked(key);
        }
    }

    fn send_answer(
        &mut self,
        now: Instant,
        key: (Peer, u8),
        service: ConfirmedService,
        header: &RequestHeader,
        answer: &Answer,
    ) {
        let (peer, invoke_id) = key;
        let mut octets = Vec::new();
        let short = match answer {
            Answer::Simple => Apdu::SimpleAck { invoke_id, service },
            Answer::Error(error) => {
                error.encode(&mut octets);
                Apdu::Error { invoke_id, service, data: &octets }
            }
            Answer::Reject(reason) => Apdu::Reject { invoke_id, reason: *reason },
            Answer::Abort(reason) => Apdu::Abort { by_server: true, invoke_id, reason: *reason },
            Answer::Complex(data) => {
                let most = usize::from(header.max_apdu.min(self.config.max_apdu).octets());
                if data.len() + 3 > most {
                    return self.send_segments(now, key, header, data, most - 5);
                }
                Apdu::ComplexAck { invoke_id, segment: None, service, data }
            }
        };
        self.send_apdu(peer, &short);
        self.forget_asked(key);
    }

    fn send_segments(&mut self, now: Instant, key: (Peer, u8), header: &RequestHeader, data: &[u8], size: usize) {
        let sender = Sender::new(data.to_vec(), size);
        let is_too_much = header.max_segments.most().is_some_and(|most| sender.total() > usize::from(most));
        let refused = if !header.accepts_segments {
            Some(AbortReason::SEGMENTATION_NOT_SUPPORTED)
        } else if is_too_much {
            Some(AbortReason::BUFFER_OVERFLOW)
        } else {
            None
        };
        if let Some(reason) = refused {
            self.abort(key.0, key.1, true, reason);
            return self.forget_asked(key);
        }
        if let Some(asked) = self.asked.get_mut(&key) {
            asked.state = State::Sending { sender, tries_left: self.config.segment_retries };
        }
        self.send_window(key, now);
    }

    fn send_window(&mut self, key: (Peer, u8), now: Instant) {
        let Some(asked) = self.asked.get_mut(&key) else { return };
        let State::Sending { sender, .. } = &mut asked.state else { return };
        let window = self.config.window;
        let service = asked.service;
        let segments: Vec<_> = sender
            .send()
            .map(|at| sender.segment(at, window))
            .map(|(segment, data)| (segment, data.to_vec()))
            .collect();
        let deadline = now + self.config.segment_timeout;
        let before = asked.deadline.replace(deadline);
        for (segment, data) in segments {
            let segment = Some(segment);
            self.send_apdu(key.0, &Apdu::ComplexAck { invoke_id: key.1, segment, service, data: &data });
        }
        self.set_deadline(Timer::Asked(key.0, key.1), before, Some(deadline));
    }

    /// Segments of an answer of ours came.
    pub(super) fn asked_acknowledged(&mut self, now: Instant, peer: Peer, ack: &SegmentAck) {
        let key = (peer, ack.invoke_id);
        let retries = self.config.segment_retries;
        let Some(Asked { state: State::Sending { sender, tries_left }, .. }) = self.asked.get_mut(&key) else { return };
        match sender.acknowledged(ack.sequence, ack.window, ack.is_negative) {
            Acknowledged::Nothing => {}
            Acknowledged::Send => {
                *tries_left = retries;
                self.send_window(key, now);
            }
            Acknowledged::All => self.forget_asked(key),
        }
    }

    pub(super) fn asked_is_due(&mut self, key: (Peer, u8), now: Instant) {
        let Some(asked) = self.asked.get_mut(&key) else { return };
        asked.deadline = None;
        match &mut asked.state {
            State::Sending { tries_left: left @ 1.., .. } => {
                *left -= 1;
                self.send_window(key, now);
            }
            State::Waiting => {
                self.abort(key.0, key.1, true, AbortReason::TSM_TIMEOUT);
                self.forget_asked(key);
            }
            State::Taking(_) | State::Sending { .. } => self.forget_asked(key),
        }
    }

    pub(super) fn forget_asked(&mut self, key: (Peer, u8)) {
        if let Some(asked) = self.asked.remove(&key) {
            self.set_deadline(Timer::Asked(key.0, key.1), asked.deadline, None);
        }
    }
}
