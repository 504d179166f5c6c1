use crate::{FrameError, Response, ResponseError};
use std::time::Duration;

/// Names a request in its [`Event`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RequestId(pub(super) u64);

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
