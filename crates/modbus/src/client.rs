use crate::ascii::{AsciiBuffer, Line};
use crate::owed::{OwedAnswers, pairs_by_order};
use crate::rtu::{Awaited, RtuBuffer};
use crate::trace::{Direction, Fate, TracedFrame};
use crate::{Frame, FrameDecoder, FrameError, Framing, Request, Response, ResponseError};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// How a [`Client`] treats its device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct ClientConfig {
    /// How long an answer may take; counted from when the bytes were handed out.
    ///
    /// Too short turns slow devices silent, and their late answers are dropped; too long holds up what waits behind.
    pub response_timeout: Duration,
    /// How long after a timeout an answer may still come over a line where nothing pairs it with its request: so long
    /// nothing is asked that it could be taken for. Only RTU and ASCII.
    ///
    /// Too short lets an answer that is later still become the value of something else; too long leaves a function of a
    /// unit alone after each lost frame.
    pub late_limit: Duration,
    /// How messages are put on the stream.
    pub framing: Framing,
    /// How many requests may wait for their answers at the same time, 1 or more. Only Modbus TCP says which answer is
    /// to which request: the others take 1 whatever stands here. Many devices answer one at a time and lose the rest.
    pub in_flight: usize,
    /// How long the line has to be silent before a request; see [`Framing::silence`].
    pub silence: Duration,
    /// How long all units of a line are given to carry out what was sent to unit 0, which none of them answers.
    pub turnaround: Duration,
    /// Whether every frame is told by [`Client::poll_frame`].
    pub trace: bool,
}

impl Default for ClientConfig {
    /// One second: devices behind a serial gateway at 9600 baud answer within about half of it. Late answers within five
    /// times of that. A turn-around of 100 ms: the least of MODBUS over Serial Line V1.02, section 2.4.1.
    fn default() -> Self {
        Self {
            response_timeout: Duration::from_secs(1),
            late_limit: Duration::from_secs(5),
            framing: Framing::Tcp,
            in_flight: 1,
            silence: Duration::ZERO,
            turnaround: Duration::from_millis(100),
            trace: false,
        }
    }
}

/// Names a request in its [`Event`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RequestId(u64);

/// The device owes as many answers as it takes at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("as many requests are outstanding as the device takes")]
pub struct Busy;

/// Why a request brought no data.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RequestError {
    /// No answer came in time.
    #[error("no answer within {0:?}")]
    Timeout(Duration),
    /// No answer came in time, but one from another unit.
    #[error("unit {answered} answers where unit {asked} was asked")]
    WrongUnit {
        /// Who was asked.
        asked: u8,
        /// Who answered.
        answered: u8,
    },
    /// An answer came, cut or with a wrong check.
    #[error("an answer came garbled: it is cut, or its {0} is wrong")]
    Garbled(&'static str),
    /// Several answers came at once: none is believed.
    #[error("{0} answers came at once, and none is believed")]
    Several(usize),
    /// The device refused, or its answer does not fit the request.
    #[error(transparent)]
    Response(#[from] ResponseError),
}

/// What became of a request or of the stream.
#[derive(Debug, PartialEq, Eq)]
pub enum Event {
    /// The request is done, and how long the answer took.
    Done(RequestId, Result<Response, RequestError>, Duration),
    /// The stream is of no more use; connect again and call [`Client::reset`].
    Broken(FrameError),
}

/// What a client counted since it was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ClientStats {
    /// Requests handed out as bytes.
    pub requests: u64,
    /// Answers with data.
    pub answers: u64,
    /// Answers that refused.
    pub exceptions: u64,
    /// Requests without an answer in time.
    pub timeouts: u64,
    /// Answers that broke the protocol.
    pub malformed: u64,
    /// Messages that answer no request; dropped.
    pub unmatched: u64,
    /// Answers that came after their timeout over a line; dropped.
    pub late: u64,
    /// Answers of other units than the one that was asked; dropped.
    pub wrong_unit: u64,
    /// Answers that were cut, or whose CRC or LRC was wrong.
    pub garbled: u64,
    /// Bytes of a line that belong to no frame.
    pub noise_bytes: u64,
    /// Bytes handed out.
    pub bytes_sent: u64,
    /// Bytes taken in.
    pub bytes_received: u64,
}

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
    config: ClientConfig,
    decoder: FrameDecoder,
    rtu: RtuBuffer,
    ascii: AsciiBuffer,
    queued: VecDeque<Pending>,
    outstanding: VecDeque<Outstanding>,
    is_broken: bool,
    owed: OwedAnswers,
    /// The unit that answered in place of the one that was asked.
    wrong_unit: Option<u8>,
    /// Whether the answer to the last request came garbled.
    is_garbled: bool,
    /// Bytes since the last answer.
    unasked_bytes: usize,
    /// When the line has been silent long enough.
    quiet_at: Option<Instant>,
    last_transaction: u16,
    last_id: u64,
    events: VecDeque<Event>,
    frames: VecDeque<TracedFrame>,
    stats: ClientStats,
}

#[derive(Debug)]
struct Pending {
    id: RequestId,
    transaction: u16,
    unit: u8,
    request: Request,
}

#[derive(Debug)]
struct Outstanding {
    pending: Pending,
    sent: Instant,
    deadline: Instant,
    is_broadcast: bool,
}

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

    fn broken(&mut self, error: FrameError) {
        if !std::mem::replace(&mut self.is_broken, true) {
            self.forget_requests();
            self.events.push_back(Event::Broken(error));
        }
    }

    /// The answer that a line owes next.
    fn awaited(&self) -> Option<Awaited> {
        let waiting = self.outstanding.front().filter(|waiting| !waiting.is_broadcast)?;
        let Pending { unit, request, .. } = &waiting.pending;
        Some(Awaited { unit: *unit, function: request.function(), byte_count: request.answer_byte_count() })
    }

    fn handle_rtu(&mut self, now: Instant, bytes: &[u8]) {
        self.rtu.push(bytes);
        let (awaited, mut frames) = (self.awaited(), Vec::new());
        while let Some(found) = self.rtu.next_answer(awaited) {
            self.noise(found.noise);
            let (unit, pdu) = found.parts();
            frames.push(LineFrame { unit, pdu: pdu.to_vec(), wire: found.wire });
        }
        self.handle_frames(now, frames);
    }

    fn handle_ascii(&mut self, now: Instant, bytes: &[u8]) {
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

    fn noise(&mut self, bytes: usize) {
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

    fn handle_tcp(&mut self, now: Instant, bytes: &[u8]) {
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

    fn unmatched(&mut self, now: Instant, bytes: &[u8]) {
        self.stats.unmatched += 1;
        self.trace(now, Direction::Received, || bytes.to_vec(), Fate::Unmatched, None);
    }

    fn done(&mut self, now: Instant, at: usize, frame: Vec<u8>, result: Result<Response, ResponseError>) {
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
    fn owe(&mut self, pending: &Pending, sent: Instant, until: Instant) {
        if pairs_by_order(self.config.framing) {
            self.owed.add((pending.unit, pending.request.function()), Some(sent), until);
        }
    }

    fn trace(
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
    fn give_up(&mut self, now: Instant, waiting: Outstanding, is_garbled: bool) {
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

    fn forget_requests(&mut self) {
        self.queued.clear();
        for Outstanding { pending, sent, deadline, is_broadcast } in std::mem::take(&mut self.outstanding) {
            if !is_broadcast {
                self.owe(&pending, sent, deadline + self.config.late_limit);
            }
        }
    }

    /// What is held of a line is noise.
    fn clear_line(&mut self) {
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
