//! Places from which to go on, in what did not fit in an answer.
//!
//! Source: OPC 10000-4, section 7.9.

use crate::service::ReferenceDescription;
use crate::types::{ByteString, DateTime, StatusCode};
use std::collections::VecDeque;

/// The places of a session.
#[derive(Debug, Default)]
pub(super) struct Points {
    open: VecDeque<(u64, Rest)>,
    last: u64,
}

/// What is still to be told.
#[derive(Debug)]
pub(super) enum Rest {
    /// References, so many at a time.
    References(Vec<ReferenceDescription>, usize),
    /// The history of a node, behind so many values of this time.
    History(DateTime, usize),
}

impl Points {
    /// Keeps what is still to be told.
    pub(super) fn keep(&mut self, rest: Rest, most: usize) -> Result<ByteString, StatusCode> {
        if most != 0 && self.open.len() >= most {
            return Err(StatusCode::BAD_NO_CONTINUATION_POINTS);
        }
        self.last += 1;
        self.open.push_back((self.last, rest));
        Ok(self.last.to_le_bytes().to_vec().into())
    }

    /// Takes out what a place means.
    pub(super) fn take(&mut self, point: &ByteString) -> Option<Rest> {
        let number = u64::from_le_bytes(point.as_bytes().try_into().ok()?);
        let at = self.open.iter().position(|(known, _)| *known == number)?;
        self.open.remove(at).map(|(_, rest)| rest)
    }
}
