use crate::link::FrameView;

/// Why a trial brought nothing.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum TrialError {
    /// The address cannot be read as described.
    #[error("{0}")]
    Request(String),
    /// Nobody is there.
    #[error("cannot connect to {target}: {why}")]
    Connect {
        /// Host and port.
        target: String,
        /// What the network said.
        why: String,
    },
    /// It was asked, and the way to it broke before the answer.
    #[error("no answer from {target}: {why}")]
    Lost {
        /// Host and port.
        target: String,
        /// What happened.
        why: String,
    },
    /// The device did not give what it was asked for.
    #[error("{peer}: {why}")]
    Device {
        /// Who was asked, in the words of the protocol: `unit 3`.
        peer: String,
        /// What it said instead, or that it said nothing.
        why: String,
        /// The frames sent and received.
        frames: Vec<FrameView>,
    },
}
