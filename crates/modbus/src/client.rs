use crate::rtu::RtuBuffer;
use crate::{Frame, FrameDecoder, FrameError, Framing, ReadData, ReadRequest, ResponseError};
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
}

impl Default for ClientConfig {
    /// One second: devices behind a serial gateway at 9600 baud answer within about half of it.
    fn default() -> Self {
        Self { response_timeout: Duration::from_secs(1), framing: Framing::Tcp }
    }
}

/// Names a request in its [`Event`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RequestId(u64);

/// The device owes an answer; it takes one request at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a request is outstanding")]
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
    /// The request is done.
    Done(RequestId, Result<ReadData, RequestError>),
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
}

/// The client of one connection, without I/O: one request outstanding at a time.
///
/// ```text
///           request()          poll_transmit()
///   Idle ──────────────▶ Queued ──────────────▶ Waiting
///    ▲                                             │ answer, timeout
///    └─────────────────────────────────────────────┘
/// ```
#[derive(Debug)]
pub struct Client {
    config: ClientConfig,
    decoder: FrameDecoder,
    rtu: RtuBuffer,
    state: State,
    last_transaction: u16,
    last_id: u64,
    events: VecDeque<Event>,
    stats: ClientStats,
}

#[derive(Debug)]
enum State {
    Idle,
    Queued(Pending),
    Waiting(Pending, Instant),
    Broken,
}

#[derive(Debug, Clone, Copy)]
struct Pending {
    id: RequestId,
    transaction: u16,
    unit: u8,
    request: ReadRequest,
}

impl Client {
    /// A client for a connection that is just up.
    #[must_use]
    pub fn new(config: ClientConfig) -> Self {
        Self {
            config,
            decoder: FrameDecoder::default(),
            rtu: RtuBuffer::default(),
            state: State::Idle,
            last_transaction: 0,
            last_id: 0,
            events: VecDeque::new(),
            stats: ClientStats::default(),
        }
    }

    /// Queues a request. The answer is due `response_timeout` after its bytes were handed out.
    ///
    /// # Errors
    /// [`Busy`] when the device already owes an answer.
    pub fn request(&mut self, _now: Instant, unit: u8, request: ReadRequest) -> Result<RequestId, Busy> {
        if !matches!(self.state, State::Idle) {
            return Err(Busy);
        }
        self.last_id += 1;
        self.last_transaction = self.last_transaction.wrapping_add(1);
        let id = RequestId(self.last_id);
        self.state = State::Queued(Pending { id, transaction: self.last_transaction, unit, request });
        Ok(id)
    }

    /// Takes in bytes from the device, however TCP cut them up.
    pub fn handle_input(&mut self, bytes: &[u8]) {
        match self.config.framing {
            Framing::Tcp => self.handle_tcp(bytes),
            Framing::Rtu => self.handle_rtu(bytes),
        }
    }

    /// On a line that answers one request at a time, what comes while nothing is outstanding is late or noise.
    fn handle_rtu(&mut self, bytes: &[u8]) {
        let State::Waiting(pending, _) = self.state else {
            self.stats.unmatched += 1;
            return;
        };
        self.rtu.push(bytes);
        let function = pending.request.table().read_function();
        let result = match self.rtu.answer(pending.unit, function) {
            Ok(None) => return,
            Ok(Some(pdu)) => pending.request.decode_response(pdu),
            Err(error) => Err(error),
        };
        self.done(pending, result);
    }

    fn done(&mut self, pending: Pending, result: Result<ReadData, ResponseError>) {
        match &result {
            Ok(_) => self.stats.answers += 1,
            Err(ResponseError::Exception(_)) => self.stats.exceptions += 1,
            Err(_) => self.stats.malformed += 1,
        }
        self.state = State::Idle;
        self.events.push_back(Event::Done(pending.id, result.map_err(RequestError::from)));
    }

    fn handle_tcp(&mut self, bytes: &[u8]) {
        self.decoder.push(bytes);
        loop {
            let frame = match self.decoder.next_frame() {
                Ok(None) => return,
                Ok(Some(frame)) => frame,
                Err(error) => {
                    if !matches!(self.state, State::Broken) {
                        self.state = State::Broken;
                        self.events.push_back(Event::Broken(error));
                    }
                    return;
                }
            };
            let State::Waiting(pending, _) = self.state else {
                self.stats.unmatched += 1;
                continue;
            };
            // MODBUS Messaging on TCP/IP V1.0b, section 4.4.1.3: an answer belongs to the request with its
            // transaction identifier, and to no other.
            if frame.transaction != pending.transaction || frame.unit != pending.unit {
                self.stats.unmatched += 1;
                continue;
            }
            let result = pending.request.decode_response(frame.pdu);
            self.done(pending, result);
        }
    }

    /// Gives up on what is overdue. Early or repeated calls do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        if let State::Waiting(pending, deadline) = self.state
            && now >= deadline
        {
            self.stats.timeouts += 1;
            self.state = State::Idle;
            let error = RequestError::Timeout(self.config.response_timeout);
            self.events.push_back(Event::Done(pending.id, Err(error)));
        }
    }

    /// Appends the bytes to send to `out`; `false` when there are none. Poll it after [`Client::request`].
    #[must_use]
    pub fn poll_transmit(&mut self, now: Instant, out: &mut Vec<u8>) -> bool {
        let State::Queued(pending) = self.state else { return false };
        let pdu = pending.request.encode();
        self.rtu.clear();
        self.config.framing.encode(Frame { transaction: pending.transaction, unit: pending.unit, pdu: &pdu }, out);
        self.state = State::Waiting(pending, now + self.config.response_timeout);
        self.stats.requests += 1;
        true
    }

    /// When to call [`Client::handle_timeout`]. Ask again after any other call.
    #[must_use]
    pub const fn poll_timeout(&self) -> Option<Instant> {
        match self.state {
            State::Waiting(_, deadline) => Some(deadline),
            State::Idle | State::Queued(_) | State::Broken => None,
        }
    }

    /// What happened, oldest first, until `None`. Poll it after [`Client::handle_input`] and [`Client::handle_timeout`].
    #[must_use]
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// Starts over on a new connection: what was outstanding is forgotten, transaction numbers go on.
    pub fn reset(&mut self) {
        self.decoder.clear();
        self.rtu.clear();
        self.events.clear();
        self.state = State::Idle;
    }

    /// What it counted since it was made.
    #[must_use]
    pub const fn stats(&self) -> ClientStats {
        self.stats
    }
}
