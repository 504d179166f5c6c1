use super::config::ClientConfig;
use super::event::{Busy, Event, RequestError, RequestId};
use super::stats::ClientStats;
use crate::ascii::AsciiBuffer;
use crate::owed::{OwedAnswers, pairs_by_order};
use crate::rtu::RtuBuffer;
use crate::trace::{Direction, Fate, TracedFrame};
use crate::{Frame, FrameDecoder, FrameError, Framing, Request, Response, ResponseError};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// So much a device may say without answering: hundreds of late answers, or a long burst of noise. What says more is not
/// the device that was meant, and would fill the memory.
const FLOOD: usize = 64 << 10;
/// Frames that are kept for [`Client::poll_frame`]; whoever does not poll gets the newest.
const TRACED: usize = 1000;

/// The client of one connection or line, without I/O.
///
/// ```text
///          request()           poll_transmit()
///   free ──────────────▶ queued ──────────────▶ outstanding
///    ▲                                             │ answer, timeout
///    └─────────────────────────────────────────────┘
/// ```
///
/// There are [`ClientConfig::in_flight`] of these, each going its own way. Over RTU and ASCII a request that timed out
/// leaves an [owed answer](OwedAnswers) behind; what that could be taken for stays queued until it can no more.
#[derive(Debug)]
pub struct Client {
    pub(super) config: ClientConfig,
    pub(super) decoder: FrameDecoder,
    pub(super) rtu: RtuBuffer,
    pub(super) ascii: AsciiBuffer,
    pub(super) queued: VecDeque<Pending>,
    pub(super) outstanding: VecDeque<Outstanding>,
    pub(super) is_broken: bool,
    pub(super) owed: OwedAnswers,
    /// The unit that answered in place of the one that was asked.
    pub(super) wrong_unit: Option<u8>,
    /// Whether the answer to the last request came garbled.
    pub(super) is_garbled: bool,
    /// Bytes since the last answer.
    pub(super) unasked_bytes: usize,
    /// When the line has been silent long enough.
    pub(super) quiet_at: Option<Instant>,
    last_transaction: u16,
    last_id: u64,
    pub(super) events: VecDeque<Event>,
    pub(super) frames: VecDeque<TracedFrame>,
    pub(super) stats: ClientStats,
}

#[derive(Debug)]
pub(super) struct Pending {
    pub(super) id: RequestId,
    pub(super) transaction: u16,
    pub(super) unit: u8,
    pub(super) request: Request,
}

#[derive(Debug)]
pub(super) struct Outstanding {
    pub(super) pending: Pending,
    pub(super) sent: Instant,
    pub(super) deadline: Instant,
    pub(super) is_broadcast: bool,
}

impl Client {
    /// A client for a connection that is just up.
    #[must_use]
    pub fn new(config: ClientConfig) -> Self {
        Self {
            config,
            decoder: FrameDecoder::default(),
            rtu: RtuBuffer::default(),
            ascii: AsciiBuffer::default(),
            queued: VecDeque::new(),
            outstanding: VecDeque::new(),
            is_broken: false,
            owed: OwedAnswers::default(),
            wrong_unit: None,
            is_garbled: false,
            unasked_bytes: 0,
            quiet_at: None,
            last_transaction: 0,
            last_id: 0,
            events: VecDeque::new(),
            frames: VecDeque::new(),
            stats: ClientStats::default(),
        }
    }

    /// How many requests it takes at a time.
    #[must_use]
    pub fn capacity(&self) -> usize {
        if self.config.framing == Framing::Tcp { self.config.in_flight.max(1) } else { 1 }
    }

    /// Queues a request. The answer is due `response_timeout` after its bytes were handed out.
    ///
    /// # Errors
    /// [`Busy`] when the device already owes as many answers as it takes at a time, or the stream is broken.
    pub fn request(&mut self, unit: u8, request: impl Into<Request>) -> Result<RequestId, Busy> {
        if self.is_broken || self.queued.len() + self.outstanding.len() >= self.capacity() {
            return Err(Busy);
        }
        self.last_id += 1;
        self.last_transaction = self.last_transaction.wrapping_add(1);
        let id = RequestId(self.last_id);
        self.queued.push_back(Pending { id, transaction: self.last_transaction, unit, request: request.into() });
        Ok(id)
    }

    /// When a request of a function to a unit may go out; `None` when it may at once. Until then an answer that is owed
    /// could be taken for its own, and [`Client::poll_transmit`] holds it back.
    #[must_use]
    pub fn held_until(&self, now: Instant, unit: u8, function: u8) -> Option<Instant> {
        self.owed.held_until(now, unit, function)
    }

    /// When the next request that is held may go out.
    #[must_use]
    pub fn next_release(&self) -> Option<Instant> {
        self.owed.next_end()
    }

    /// The answers that are owed when the connection ends, those to what is outstanding included: for the client of the
    /// next connection to the same line.
    #[must_use]
    pub fn take_owed(&mut self) -> OwedAnswers {
        self.reset();
        std::mem::take(&mut self.owed)
    }

    /// Goes on where the client of an earlier connection to the same line ended.
    #[must_use]
    pub fn with_owed(mut self, owed: OwedAnswers) -> Self {
        self.owed = owed;
        self
    }

    /// Takes in bytes from the device, however they were cut up.
    pub fn handle_input(&mut self, now: Instant, bytes: &[u8]) {
        self.stats.bytes_received += u64::try_from(bytes.len()).unwrap_or_default();
        self.quiet_at = Some(now + self.config.silence);
        self.unasked_bytes += bytes.len();
        if self.is_broken {
            return;
        }
        match self.config.framing {
            Framing::Tcp => self.handle_tcp(now, bytes),
            Framing::Rtu => self.handle_rtu(now, bytes),
            Framing::Ascii => self.handle_ascii(now, bytes),
        }
        if self.unasked_bytes > FLOOD {
            self.broken(FrameError::Flood(self.unasked_bytes));
        }
    }

    pub(super) fn broken(&mut self, error: FrameError) {
        if !std::mem::replace(&mut self.is_broken, true) {
            self.forget_requests();
            self.events.push_back(Event::Broken(error));
        }
    }

    pub(super) fn done(&mut self, now: Instant, at: usize, frame: Vec<u8>, result: Result<Response, ResponseError>) {
        let Some(Outstanding { pending, sent, .. }) = self.outstanding.remove(at) else { return };
        self.unasked_bytes = 0;
        let took = now.saturating_duration_since(sent);
        let fate = match &result {
            Ok(_) => {
                self.stats.answers += 1;
                Fate::Answer(took)
            }
            Err(ResponseError::Exception(_)) => {
                self.stats.exceptions += 1;
                Fate::Answer(took)
            }
            Err(_) => {
                self.stats.malformed += 1;
                // It may be the answer to something else, and its own is still to come.
                self.owe(&pending, sent, now + self.config.late_limit);
                Fate::Malformed
            }
        };
        self.trace(now, Direction::Received, || frame, fate, Some(&pending));
        self.events.push_back(Event::Done(pending.id, result.map_err(RequestError::from), took));
    }

    /// Its answer may come until then.
    pub(super) fn owe(&mut self, pending: &Pending, sent: Instant, until: Instant) {
        if pairs_by_order(self.config.framing) {
            self.owed.add((pending.unit, pending.request.function()), Some(sent), until);
        }
    }

    pub(super) fn trace(
        &mut self,
        at: Instant,
        direction: Direction,
        bytes: impl FnOnce() -> Vec<u8>,
        fate: Fate,
        pending: Option<&Pending>,
    ) {
        if !self.config.trace {
            return;
        }
        let request = pending.map(|pending| {
            let mut pdu = Vec::new();
            pending.request.encode(&mut pdu);
            (pending.unit, pdu)
        });
        if self.frames.len() == TRACED {
            self.frames.pop_front();
        }
        self.frames.push_back(TracedFrame { at, direction, bytes: bytes(), fate, request });
    }

    /// Gives up on what is overdue. Early or repeated calls do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.quiet_at = self.quiet_at.filter(|quiet| now < *quiet);
        self.owed.expire(now);
        while let Some(at) = self.outstanding.iter().position(|waiting| now >= waiting.deadline) {
            let awaited = self.awaited();
            let Some(waiting) = self.outstanding.remove(at) else { return };
            if waiting.is_broadcast {
                self.events.push_back(Event::Done(waiting.pending.id, Ok(Response::Written), Duration::ZERO));
                continue;
            }
            let is_garbled = self.is_garbled || awaited.is_some_and(|awaited| self.rtu.is_garbled(awaited));
            self.give_up(now, waiting, is_garbled);
        }
    }

    /// No answer came that can be used.
    pub(super) fn give_up(&mut self, now: Instant, waiting: Outstanding, is_garbled: bool) {
        let Outstanding { pending, sent, deadline, .. } = waiting;
        let timeout = self.config.response_timeout;
        let noise = [self.rtu.rest(), self.ascii.rest()].concat();
        let check = if self.config.framing == Framing::Ascii { "LRC" } else { "CRC" };
        // What came garbled is not owed any more, unless it was a copy, or somebody else's late one.
        let copies = if self.owed.is_empty() { timeout } else { self.config.late_limit };
        let (fate, error, until) = match (is_garbled, self.wrong_unit) {
            (true, _) => (Fate::Garbled, RequestError::Garbled(check), deadline + copies),
            (false, Some(answered)) => {
                let error = RequestError::WrongUnit { asked: pending.unit, answered };
                (Fate::NoAnswer(timeout), error, deadline + self.config.late_limit)
            }
            (false, None) => {
                (Fate::NoAnswer(timeout), RequestError::Timeout(timeout), deadline + self.config.late_limit)
            }
        };
        if is_garbled {
            self.stats.garbled += 1;
        } else {
            self.stats.timeouts += 1;
        }
        self.owe(&pending, sent, until);
        self.trace(now, Direction::Received, || noise, fate, Some(&pending));
        self.events.push_back(Event::Done(pending.id, Err(error), timeout));
    }

    /// Appends the bytes of the next request to `out`; `false` when there are none, the line has not been silent long
    /// enough, or all of them are held back by answers that are owed. Poll it after [`Client::request`] and [`Client::handle_timeout`], until `false`.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Instant, out: &mut Vec<u8>) -> bool {
        if self.quiet_at.is_some_and(|quiet| now < quiet) {
            return false;
        }
        let is_free = |pending: &Pending| self.held_until(now, pending.unit, pending.request.function()).is_none();
        let Some(pending) = self.queued.iter().position(is_free).and_then(|at| self.queued.remove(at)) else {
            return false;
        };
        let (mut pdu, start) = (Vec::new(), out.len());
        pending.request.encode(&mut pdu);
        self.clear_line();
        let frame = Frame { transaction: pending.transaction, unit: pending.unit, pdu: &pdu };
        self.config.framing.encode(frame, out);
        let sent = out.get(start..).unwrap_or_default();
        self.stats.requests += 1;
        self.stats.bytes_sent += u64::try_from(sent.len()).unwrap_or_default();
        self.trace(now, Direction::Sent, || sent.to_vec(), Fate::Request, None);
        let is_broadcast =
            self.config.framing.has_broadcast() && pending.unit == 0 && pending.request.is_broadcastable();
        let wait = if is_broadcast { self.config.turnaround } else { self.config.response_timeout };
        self.outstanding.push_back(Outstanding { pending, sent: now, deadline: now + wait, is_broadcast });
        true
    }

    /// When to call [`Client::handle_timeout`]. Ask again after any other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let deadlines = self.outstanding.iter().map(|waiting| waiting.deadline);
        let queued = [self.quiet_at, self.next_release()].into_iter().flatten();
        deadlines.chain(queued.filter(|_| !self.queued.is_empty())).min()
    }

    /// What happened, oldest first, until `None`. Poll it after [`Client::handle_input`] and [`Client::handle_timeout`].
    #[must_use]
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// The frames that were sent and received, oldest first, until `None`; none unless [`ClientConfig::trace`] is set.
    /// Poll it after every other call, since they are kept until then.
    #[must_use]
    pub fn poll_frame(&mut self) -> Option<TracedFrame> {
        self.frames.pop_front()
    }

    /// Starts over on a new connection: what was outstanding is forgotten but for the answers that are owed, transaction
    /// numbers go on.
    pub fn reset(&mut self) {
        self.decoder.clear();
        self.clear_line();
        self.events.clear();
        self.forget_requests();
        self.is_broken = false;
        self.quiet_at = None;
        self.unasked_bytes = 0;
    }

    pub(super) fn forget_requests(&mut self) {
        self.queued.clear();
        for Outstanding { pending, sent, deadline, is_broadcast } in std::mem::take(&mut self.outstanding) {
            if !is_broadcast {
                self.owe(&pending, sent, deadline + self.config.late_limit);
            }
        }
    }

    /// What is held of a line is noise.
    pub(super) fn clear_line(&mut self) {
        self.noise(self.rtu.rest().len() + self.ascii.rest().len());
        self.rtu.clear();
        self.ascii.clear();
        (self.wrong_unit, self.is_garbled) = (None, false);
    }

    /// What it counted since it was made.
    #[must_use]
    pub const fn stats(&self) -> ClientStats {
        self.stats
    }
}
