use super::{FINAL, FIRST, SEQUENCE};
use crate::link::MOST_USER_DATA;

/// Cuts fragments into segments, whose numbers go on from one fragment to the next.
#[derive(Debug, Default)]
pub struct Splitter {
    sequence: u8,
}

impl Splitter {
    /// The segments of a fragment, each of which is the user data of one frame. None for an empty fragment.
    pub fn split(&mut self, fragment: &[u8]) -> Vec<Vec<u8>> {
        let parts = fragment.chunks(MOST_USER_DATA - 1);
        let last = parts.len().saturating_sub(1);
        let segment = |(number, part): (usize, &[u8])| {
            let first = if number == 0 { FIRST } else { 0 };
            let header = self.sequence | first | if number == last { FINAL } else { 0 };
            self.sequence = (self.sequence + 1) & SEQUENCE;
            [&[header], part].concat()
        };
        parts.enumerate().map(segment).collect()
    }
}
