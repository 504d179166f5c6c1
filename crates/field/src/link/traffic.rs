/// What went over a link in a span of time.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Traffic {
    pub(crate) requests: u64,
    pub(crate) answers: u64,
    pub(crate) refusals: u64,
    pub(crate) timeouts: u64,
    /// Frames that answered nothing.
    pub(crate) unmatched: u64,
    /// Answers that came after their timeout.
    pub(crate) late: u64,
    /// Answers of other devices than the one that was asked.
    pub(crate) of_others: u64,
    /// Bytes of a line that belong to no frame.
    pub(crate) noise_bytes: u64,
    pub(crate) bytes_sent: u64,
    pub(crate) bytes_received: u64,
}
