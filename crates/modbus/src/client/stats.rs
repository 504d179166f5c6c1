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
