use crate::Framing;
use std::time::Duration;

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
