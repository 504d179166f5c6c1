use crate::ascii::AsciiBuffer;
use crate::rtu::RtuBuffer;
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
    /// One second: devices behind a serial gateway at 9600 baud answer within about half of it. A turn-around of 100
    /// ms: the least of MODBUS over Serial Line V1.02, section 2.4.1.
    fn default() -> Self {
        Self {
            response_timeout: Duration::from_secs(1),
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
    /// The device refused, or its answer does not fit the request.
    #[error(transparent)]
    Response(#[from] ResponseError),
}

/// What became of a request or of the stream.
#[derive(Debug, PartialEq, Eq)]
pub enum Event {
    /// The request is done, and how long the answer took.
    Done(RequestId, Result<Response, RequestError>, Duration),
    /// The stream is not Modbus TCP; connect again and call [`Client::reset`].
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
    /// Messages that answer no outstanding request, such as late ones; dropped.
    pub unmatched: u64,
    /// Bytes handed out.
    pub bytes_sent: u64,
    /// Bytes taken in.
    pub bytes_received: u64,
}

/// The client of one connection or line, without I/O.
///
/// ```text
///          request()           poll_transmit()
///   free ──────────────▶ queued ──────────────▶ outstanding
///    ▲                                             │ answer, timeout
///    └─────────────────────────────────────────────┘
/// ```
///
/// There are [`ClientConfig::in_flight`] of these, each going its own way.
#[derive(Debug)]
pub struct Client {
    config: ClientConfig,
    decoder: FrameDecoder,
    rtu: RtuBuffer,
    ascii: AsciiBuffer,
    queued: VecDeque<Pending>,
    outstanding: VecDeque<Outstanding>,
    is_broken: bool,
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

    /// Takes in bytes from the device, however they were cut up.
    pub fn handle_input(&mut self, now: Instant, bytes: &[u8]) {
        self.stats.bytes_received += u64::try_from(bytes.len()).unwrap_or_default();
        self.quiet_at = Some(now + self.config.silence);
        match self.config.framing {
            Framing::Tcp => self.handle_tcp(now, bytes),
            Framing::Rtu => self.handle_rtu(now, bytes),
            Framing::Ascii => self.handle_ascii(now, bytes),
        }
    }

    /// On a line that answers one request at a time, what comes while nothing is outstanding is late or noise.
    fn handle_rtu(&mut self, now: Instant, bytes: &[u8]) {
        let Some(waiting) = self.outstanding.front().filter(|waiting| !waiting.is_broadcast) else {
            self.unmatched(now, bytes);
            return;
        };
        self.rtu.push(bytes);
        let pending = &waiting.pending;
        let (frame, result) = match self.rtu.answer(pending.unit, pending.request.function()) {
            Ok(None) => return,
            Ok(Some(frame)) => {
                let pdu = frame.get(1..frame.len() - 2).unwrap_or_default();
                (frame.to_vec(), pending.request.decode_response(pdu))
            }
            Err(error) => (self.rtu.rest().to_vec(), Err(error)),
        };
        self.done(now, 0, frame, result);
    }

    fn handle_ascii(&mut self, now: Instant, bytes: &[u8]) {
        self.ascii.push(bytes);
        while let Some((unit, pdu)) = self.ascii.next_frame() {
            let mut frame = Vec::new();
            crate::ascii::encode(unit, &pdu, &mut frame);
            let waiting =
                self.outstanding.front().filter(|waiting| !waiting.is_broadcast && waiting.pending.unit == unit);
            match waiting.map(|waiting| waiting.pending.request.decode_response(&pdu)) {
                Some(result) => self.done(now, 0, frame, result),
                None => self.unmatched(now, &frame),
            }
        }
    }

    fn handle_tcp(&mut self, now: Instant, bytes: &[u8]) {
        self.decoder.push(bytes);
        loop {
            let frame = match self.decoder.next_frame() {
                Ok(None) => return,
                Ok(Some(frame)) => frame,
                Err(error) => {
                    if !std::mem::replace(&mut self.is_broken, true) {
                        (self.queued, self.outstanding) = Default::default();
                        self.events.push_back(Event::Broken(error));
                    }
                    return;
                }
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
                Fate::Malformed
            }
        };
        self.trace(now, Direction::Received, || frame, fate, Some(&pending));
        self.events.push_back(Event::Done(pending.id, result.map_err(RequestError::from), took));
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
        self.frames.push_back(TracedFrame { at, direction, bytes: bytes(), fate, request });
    }

    /// Gives up on what is overdue. Early or repeated calls do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.quiet_at = self.quiet_at.filter(|quiet| now < *quiet);
        while let Some(at) = self.outstanding.iter().position(|waiting| now >= waiting.deadline) {
            let Some(Outstanding { pending, is_broadcast, .. }) = self.outstanding.remove(at) else { return };
            if is_broadcast {
                self.events.push_back(Event::Done(pending.id, Ok(Response::Written), Duration::ZERO));
                continue;
            }
            self.stats.timeouts += 1;
            let noise = [self.rtu.rest(), self.ascii.rest()].concat();
            let fate = Fate::NoAnswer(self.config.response_timeout);
            self.trace(now, Direction::Received, || noise, fate, Some(&pending));
            let error = RequestError::Timeout(self.config.response_timeout);
            self.events.push_back(Event::Done(pending.id, Err(error), self.config.response_timeout));
        }
    }

    /// Appends the bytes of the next request to `out`; `false` when there are none, or the line has not been silent long
    /// enough. Poll it after [`Client::request`] and [`Client::handle_timeout`], until `false`.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Instant, out: &mut Vec<u8>) -> bool {
        if self.quiet_at.is_some_and(|quiet| now < quiet) {
            return false;
        }
        let Some(pending) = self.queued.pop_front() else { return false };
        let (mut pdu, start) = (Vec::new(), out.len());
        pending.request.encode(&mut pdu);
        self.rtu.clear();
        self.ascii.clear();
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
        let quiet = self.quiet_at.filter(|_| !self.queued.is_empty());
        self.outstanding.iter().map(|waiting| waiting.deadline).chain(quiet).min()
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

    /// Starts over on a new connection: what was outstanding is forgotten, transaction numbers go on.
    pub fn reset(&mut self) {
        self.decoder.clear();
        self.rtu.clear();
        self.ascii.clear();
        self.events.clear();
        self.queued.clear();
        self.outstanding.clear();
        self.is_broken = false;
        self.quiet_at = None;
    }

    /// What it counted since it was made.
    #[must_use]
    pub const fn stats(&self) -> ClientStats {
        self.stats
    }
}
