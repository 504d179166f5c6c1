use std::time::{Duration, Instant};

/// Which way a frame went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// To the device.
    Sent,
    /// From the device.
    Received,
}

/// What became of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It asks.
    Request,
    /// It answers or refuses, so long after its request.
    Answer(Duration),
    /// It is no answer that the standard allows to the request, or no frame at all.
    Malformed,
    /// It answers nothing that was asked.
    Unmatched,
    /// It answers a request that had timed out, so long after it.
    Late(Duration),
    /// It came from another unit than the one that was asked.
    WrongUnit,
    /// It, or what came with it, could each be the answer: none of them is believed.
    Several,
    /// Its CRC or LRC is wrong, or it is cut.
    Garbled,
    /// No answer came within this span. Its bytes are what came instead, mostly nothing.
    NoAnswer(Duration),
}

/// One frame as it was on the wire.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TracedFrame {
    /// When its last byte was handed out or taken in.
    pub at: Instant,
    /// Which way it went.
    pub direction: Direction,
    /// All its bytes, with header or check.
    pub bytes: Vec<u8>,
    /// What became of it.
    pub fate: Fate,
    /// The unit and the PDU of the request that it belongs to; none when it is a request, or belongs to none.
    pub request: Option<(u8, Vec<u8>)>,
}
