//! Requests of ours: from when they are sent to when their answer is here, or none comes.
//!
//! Source: ASHRAE 135-2016, clause 5.4.4.

use super::event::{Failure, NodeEvent, NotSent, RequestId, Terms};
use super::invoke_ids::InvokeIds;
use super::machine::{Node, Timer};
use super::segments::{Acknowledged, Sender, Taken, Taker};
use crate::apdu::{AbortReason, Apdu, ConfirmedService, Error, MaxSegments, RequestHeader, Segment, SegmentAck};
use crate::network::Peer;
use std::time::Instant;

/// A request that is owed an answer.
///
/// ```text
///   Sending ──all acknowledged──▶ Waiting ──first segment──▶ Taking ──last segment──▶ answered
///      └──── long requests only      └──── short answer ──▶ answered
/// ```
#[derive(Debug)]
pub(super) struct Request {
    id: RequestId,
    service: ConfirmedService,
    terms: Terms,
    sender: Sender,
    state: State,
    tries_left: u8,
    first_sent: Instant,
    last_sent: Instant,
    deadline: Instant,
}

#[derive(Debug)]
enum State {
    /// Its segments are on their way.
    Sending { tries_left: u8 },
    /// It is there, and nothing came back yet.
    Waiting,
    /// Segments of the answer come.
    Taking(Taker),
}

/// Octets before those of the service: in one message, and in a segment of several.
const HEADER: usize = 4;
const SEGMENT_HEADER: usize = 6;
/// So many answers that were taken in segments are known, should their last segment come again.
const MOST_TAKEN: usize = 32;

impl Node {
    /// Sends a request. Its answer, or that none came, is told by [`NodeEvent::Answered`].
    ///
    /// # Errors
    /// [`NotSent`]
    pub fn request(
        &mut self,
        now: Instant,
        to: Peer,
        service: ConfirmedService,
        data: Vec<u8>,
        terms: Terms,
    ) -> Result<RequestId, NotSent> {
        let most = usize::from(terms.max_apdu.octets().min(self.config.max_apdu.octets()));
        let is_long = data.len() + HEADER > most;
        if is_long && !terms.segmentation.receives() {
            return Err(NotSent::TooLong);
        }
        let first = self.rng.u8(..);
        let ids = self.invoke_ids.entry(to).or_insert_with(|| InvokeIds::new(first));
        let invoke_id = ids.take(now).ok_or(NotSent::Busy)?;
        self.last_id += 1;
        let id = RequestId(self.last_id);
        let size = if is_long { most - SEGMENT_HEADER } else { data.len() };
        let state = if is_long { State::Sending { tries_left: self.config.segment_retries } } else { State::Waiting };
        let request = Request {
            id,
            service,
            terms,
            sender: Sender::new(data, size),
            state,
            tries_left: terms.retries,
            first_sent: now,
            last_sent: now,
            deadline: now,
        };
        self.requests.insert((to, invoke_id), request);
        self.send_request((to, invoke_id), now);
        Ok(id)
    }

    /// Nobody wants the answer to a request any more.
    pub fn forget(&mut self, id: RequestId, now: Instant) {
        let Some(key) = self.requests.iter().find(|(_, request)| request.id == id).map(|(key, _)| *key) else { return };
        self.end(key, now, false);
    }

    /// Sends what is to be sent of a request, and sets its next deadline.
    fn send_request(&mut self, key: (Peer, u8), now: Instant) {
        let Some(request) = self.requests.get_mut(&key) else { return };
        request.last_sent = now;
        let is_long = matches!(request.state, State::Sending { .. });
        let before = request.deadline;
        let wait = if is_long { self.config.segment_timeout } else { request.terms.timeout };
        request.deadline = now + wait;
        let deadline = request.deadline;
        let accepts_segments = request.terms.segmentation.transmits();
        let header = RequestHeader {
            segment: None,
            accepts_segments,
            max_segments: if accepts_segments { MaxSegments::MORE } else { MaxSegments::UNSPECIFIED },
            max_apdu: request.terms.answer.min(self.config.max_apdu),
            invoke_id: key.1,
        };
        let service = request.service;
        let window = self.config.window;
        let segments: Vec<(Option<Segment>, Vec<u8>)> = request
            .sender
            .send()
            .map(|at| request.sender.segment(at, window))
            .map(|(segment, data)| (is_long.then_some(segment), data.to_vec()))
            .collect();
        for (segment, data) in segments {
            let header = RequestHeader { segment, ..header };
            self.send_apdu(key.0, &Apdu::ConfirmedRequest { header, service, data: &data });
        }
        self.set_deadline(Timer::Request(key.0, key.1), Some(before), Some(deadline));
    }

    /// Nothing came in time.
    pub(super) fn request_is_due(&mut self, key: (Peer, u8), now: Instant) {
        let Some(request) = self.requests.get_mut(&key) else { return };
        let tries_left = match &mut request.state {
            State::Sending { tries_left } => tries_left,
            State::Waiting => &mut request.tries_left,
            State::Taking(_) => {
                self.abort(key.0, key.1, false, AbortReason::TSM_TIMEOUT);
                return self.answered(key, now, Err(Failure::Timeout));
            }
        };
        let Some(left) = tries_left.checked_sub(1) else { return self.answered(key, now, Err(Failure::Timeout)) };
        *tries_left = left;
        if request.sender.total() > 1 && matches!(request.state, State::Waiting) {
            // Whoever does not answer may have lost its segments: they go there anew.
            request.sender = std::mem::replace(&mut request.sender, Sender::new(Vec::new(), 1)).anew();
            request.state = State::Sending { tries_left: self.config.segment_retries };
        }
        self.send_request(key, now);
    }

    /// Segments of a request of ours came.
    pub(super) fn request_acknowledged(&mut self, now: Instant, peer: Peer, ack: &SegmentAck) {
        let key = (peer, ack.invoke_id);
        let retries = self.config.segment_retries;
        let Some(request) = self.requests.get_mut(&key) else { return };
        let State::Sending { tries_left } = &mut request.state else { return };
        match request.sender.acknowledged(ack.sequence, ack.window, ack.is_negative) {
            Acknowledged::Nothing => {}
            Acknowledged::Send => {
                *tries_left = retries;
                self.send_request(key, now);
            }
            Acknowledged::All => {
                request.state = State::Waiting;
                let before = std::mem::replace(&mut request.deadline, now + request.terms.timeout);
                let deadline = request.deadline;
                self.set_deadline(Timer::Request(peer, ack.invoke_id), Some(before), Some(deadline));
            }
        }
    }

    /// An answer, or a part of one.
    pub(super) fn take_answer(&mut self, now: Instant, peer: Peer, answer: &Apdu<'_>) {
        let (invoke_id, service) = match *answer {
            Apdu::SimpleAck { invoke_id, service }
            | Apdu::ComplexAck { invoke_id, service, .. }
            | Apdu::Error { invoke_id, service, .. } => (invoke_id, Some(service)),
            Apdu::Reject { invoke_id, .. } | Apdu::Abort { invoke_id, .. } => (invoke_id, None),
            Apdu::ConfirmedRequest { .. } | Apdu::UnconfirmedRequest { .. } | Apdu::SegmentAck(_) => return,
        };
        let key = (peer, invoke_id);
        let Some(request) = self.requests.get(&key) else {
            return self.take_unexpected(now, key, answer);
        };
        // It may be late, and of a request before.
        if service.is_some_and(|service| service != request.service) {
            return;
        }
        let is_sent = !matches!(request.state, State::Sending { .. }) || request.sender.has_sent_all();
        let outcome = match *answer {
            Apdu::SimpleAck { .. } if is_sent => Ok(Vec::new()),
            Apdu::ComplexAck { segment: None, data, .. } if is_sent => Ok(data.to_vec()),
            Apdu::ComplexAck { segment: Some(segment), data, .. } if is_sent => {
                return self.take_segment(now, key, segment, data);
            }
            Apdu::Error { data, .. } => match Error::decode(data) {
                Ok(error) => Err(Failure::Error { error, data: data.to_vec() }),
                Err(_) => Err(Failure::Unfitting),
            },
            Apdu::Reject { reason, .. } => Err(Failure::Reject(reason)),
            Apdu::Abort { reason, .. } => Err(Failure::Abort { by_peer: true, reason }),
            _ => return,
        };
        self.answered(key, now, outcome);
    }

    /// Something for which nothing waits.
    fn take_unexpected(&mut self, now: Instant, (peer, invoke_id): (Peer, u8), answer: &Apdu<'_>) {
        if let Some(ids) = self.invoke_ids.get_mut(&peer) {
            ids.is_late(invoke_id, now);
        }
        let Apdu::ComplexAck { segment: Some(segment), .. } = answer else { return };
        let is_known = |taken: &&(Peer, u8, u8, u8)| (taken.0, taken.1) == (peer, invoke_id);
        match self.taken.iter().find(is_known).copied() {
            Some((.., sequence, window)) => {
                if segment.sequence == sequence {
                    self.acknowledge_segment((peer, invoke_id), sequence, window, false);
                }
            }
            None => self.abort(peer, invoke_id, false, AbortReason::INVALID_APDU_IN_THIS_STATE),
        }
    }

    fn take_segment(&mut self, now: Instant, key: (Peer, u8), segment: Segment, data: &[u8]) {
        let (own_window, most) = (self.config.window, self.config.most_octets);
        let wait = self.config.segment_timeout * 4;
        let Some(request) = self.requests.get_mut(&key) else { return };
        if !matches!(request.state, State::Taking(_)) {
            if segment.sequence != 0 {
                // Its beginning was lost: it comes again.
                return;
            }
            request.state = State::Taking(Taker::new(segment.window, own_window));
        }
        let State::Taking(taker) = &mut request.state else { return };
        let window = taker.window;
        let taken = taker.take(segment, data, most);
        let before = std::mem::replace(&mut request.deadline, now + wait);
        let deadline = request.deadline;
        self.set_deadline(Timer::Request(key.0, key.1), Some(before), Some(deadline));
        match taken {
            Taken::Kept | Taken::Repeated => {}
            Taken::Acknowledge(sequence) => self.acknowledge_segment(key, sequence, window, false),
            Taken::Missing(sequence) => self.acknowledge_segment(key, sequence, window, true),
            Taken::TooMuch => {
                self.abort(key.0, key.1, false, AbortReason::BUFFER_OVERFLOW);
                let reason = AbortReason::BUFFER_OVERFLOW;
                self.answered(key, now, Err(Failure::Abort { by_peer: false, reason }));
            }
            Taken::Done(sequence) => {
                self.acknowledge_segment(key, sequence, window, false);
                if self.taken.len() == MOST_TAKEN {
                    self.taken.pop_front();
                }
                self.taken.push_back((key.0, key.1, sequence, window));
                let taker =
                    self.requests.get_mut(&key).map(|request| std::mem::replace(&mut request.state, State::Waiting));
                if let Some(State::Taking(taker)) = taker {
                    self.answered(key, now, Ok(taker.into_data()));
                }
            }
        }
    }

    fn acknowledge_segment(&mut self, (peer, invoke_id): (Peer, u8), sequence: u8, window: u8, is_negative: bool) {
        self.send_apdu(
            peer,
            &Apdu::SegmentAck(SegmentAck { is_negative, by_server: false, invoke_id, sequence, window }),
        );
    }

    fn answered(&mut self, key: (Peer, u8), now: Instant, outcome: Result<Vec<u8>, Failure>) {
        let Some((id, last_sent)) = self.requests.get(&key).map(|request| (request.id, request.last_sent)) else {
            return;
        };
        self.end(key, now, outcome != Err(Failure::Timeout));
        let took = now.saturating_duration_since(last_sent);
        self.event(NodeEvent::Answered { id, took, outcome });
    }

    /// Nothing is owed any more; its number is free, or rests.
    fn end(&mut self, key: (Peer, u8), now: Instant, is_answered: bool) {
        let Some(request) = self.requests.remove(&key) else { return };
        self.set_deadline(Timer::Request(key.0, key.1), Some(request.deadline), None);
        // What came in segments under this number before is another answer.
        self.taken.retain(|taken| (taken.0, taken.1) != key || is_answered);
        let Some(ids) = self.invoke_ids.get_mut(&key.0) else { return };
        if is_answered {
            ids.free(key.1);
        } else {
            ids.rest(key.1, request.first_sent, now);
        }
    }
}
