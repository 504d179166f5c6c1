//! What comes in: found in the stream of each framing, and paired with what was asked.

use super::event::{Event, RequestError};
use super::machine::{Client, Outstanding, Pending};
use crate::ascii::Line;
use crate::rtu::Awaited;
use crate::trace::{Direction, Fate};
use std::time::Instant;

/// A whole frame of a line.
#[derive(Debug)]
struct LineFrame {
    unit: u8,
    pdu: Vec<u8>,
    wire: Vec<u8>,
}

impl LineFrame {
    /// The function that it answers, or refuses.
    fn function(&self) -> u8 {
        self.pdu.first().map_or(0, |function| function & 0x7F)
    }
}

impl Client {
    /// The answer that a line owes next.
    pub(super) fn awaited(&self) -> Option<Awaited> {
        let waiting = self.outstanding.front().filter(|waiting| !waiting.is_broadcast)?;
        let Pending { unit, request, .. } = &waiting.pending;
        Some(Awaited { unit: *unit, function: request.function(), byte_count: request.answer_byte_count() })
    }

    pub(super) fn handle_rtu(&mut self, now: Instant, bytes: &[u8]) {
        self.rtu.push(bytes);
        let (awaited, mut frames) = (self.awaited(), Vec::new());
        while let Some(found) = self.rtu.next_answer(awaited) {
            self.noise(found.noise);
            let (unit, pdu) = found.parts();
            frames.push(LineFrame { unit, pdu: pdu.to_vec(), wire: found.wire });
        }
        self.handle_frames(now, frames);
    }

    pub(super) fn handle_ascii(&mut self, now: Instant, bytes: &[u8]) {
        self.ascii.push(bytes);
        let mut frames = Vec::new();
        while let Some(line) = self.ascii.next_line() {
            match line {
                Line::Frame { unit, pdu } => {
                    let mut wire = Vec::new();
                    crate::ascii::encode(unit, &pdu, &mut wire);
                    frames.push(LineFrame { unit, pdu, wire });
                }
                Line::Garbled(wire) => {
                    let header = crate::ascii::header(&wire).map(|(unit, function)| (unit, function & 0x7F));
                    self.is_garbled |= self.awaited().is_some_and(|own| header == Some((own.unit, own.function)));
                    self.noise(wire.len());
                    self.trace(now, Direction::Received, || wire, Fate::Garbled, None);
                }
            }
        }
        self.handle_frames(now, frames);
    }

    pub(super) fn noise(&mut self, bytes: usize) {
        self.stats.noise_bytes += u64::try_from(bytes).unwrap_or_default();
    }

    /// Takes frames of a line in that came together. One that fits what is outstanding is its answer; of several that fit,
    /// nobody knows which.
    fn handle_frames(&mut self, now: Instant, frames: Vec<LineFrame>) {
        let awaited = self.awaited();
        let fits = |frame: &LineFrame| {
            awaited.is_some_and(|awaited| (awaited.unit, awaited.function) == (frame.unit, frame.function()))
        };
        let (mut fitting, strays): (Vec<_>, Vec<_>) = frames.into_iter().partition(fits);
        for frame in strays {
            self.stray(now, frame);
        }
        if let (1, Some(LineFrame { pdu, wire, .. })) = (fitting.len(), fitting.first()) {
            let result = self.outstanding.front().map(|waiting| waiting.pending.request.decode_response(pdu));
            if let Some(result) = result {
                self.done(now, 0, wire.clone(), result);
            }
            return;
        }
        let (count, sent) = (fitting.len(), self.outstanding.front().map(|waiting| waiting.sent));
        let Some(last) = fitting.pop() else { return };
        for LineFrame { wire, .. } in fitting {
            self.trace(now, Direction::Received, || wire, Fate::Several, None);
        }
        self.stats.malformed += 1;
        self.owed.add((last.unit, last.function()), sent, now + self.config.late_limit);
        if let Some(Outstanding { pending, sent, .. }) = self.outstanding.pop_front() {
            self.trace(now, Direction::Received, || last.wire, Fate::Several, Some(&pending));
            let took = now.saturating_duration_since(sent);
            self.events.push_back(Event::Done(pending.id, Err(RequestError::Several(count)), took));
        }
    }

    /// A whole frame that answers nothing outstanding: it is late, from somebody else, or a copy, and more of its kind may
    /// come.
    fn stray(&mut self, now: Instant, frame: LineFrame) {
        let key = (frame.unit, frame.function());
        let fate = if let Some(after) = self.owed.take(now, key, self.config.response_timeout) {
            self.stats.late += 1;
            Fate::Late(after)
        } else {
            self.owed.add(key, None, now + self.config.late_limit);
            if self.awaited().is_some_and(|awaited| awaited.unit != frame.unit) {
                self.stats.wrong_unit += 1;
                self.wrong_unit = Some(frame.unit);
                Fate::WrongUnit
            } else {
                self.stats.unmatched += 1;
                Fate::Unmatched
            }
        };
        self.trace(now, Direction::Received, || frame.wire, fate, None);
    }

    pub(super) fn handle_tcp(&mut self, now: Instant, bytes: &[u8]) {
        self.decoder.push(bytes);
        loop {
            let frame = match self.decoder.next_frame() {
                Ok(None) => return,
                Ok(Some(frame)) => frame,
                Err(error) => return self.broken(error),
            };
            // MODBUS Messaging on TCP/IP V1.0b, section 4.4.1.3: an answer belongs to the request with its
            // transaction identifier, and to no other.
            let answered = |waiting: &Outstanding| {
                waiting.pending.transaction == frame.transaction && waiting.pending.unit == frame.unit
            };
            let at = self.outstanding.iter().position(answered);
            let result =
                at.and_then(|at| Some((at, self.outstanding.get(at)?.pending.request.decode_response(frame.pdu))));
            let mut wire = Vec::new();
            if self.config.trace {
                crate::encode_frame(frame, &mut wire);
            }
            match result {
                Some((at, result)) => self.done(now, at, wire, result),
                None => self.unmatched(now, &wire),
            }
        }
    }

    pub(super) fn unmatched(&mut self, now: Instant, bytes: &[u8]) {
        self.stats.unmatched += 1;
        self.trace(now, Direction::Received, || bytes.to_vec(), Fate::Unmatched, None);
    }
}
