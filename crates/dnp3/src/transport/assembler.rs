use super::{FINAL, FIRST, SEQUENCE};

/// Puts the segments of one station together.
///
/// ```text
///             FIR                      next number                   FIN
///   nothing ──────▶ begun ──────────────────────────────▶ begun ──────────▶ a fragment
///      ▲              │  FIR: what is held is given up, and begun anew
///      └──────────────┴─ another number, or too much: what is held is given up
/// ```
///
/// Source: IEEE 1815-2012, sections 8.2.1 and 8.3.
#[derive(Debug)]
pub struct Assembler {
    held: Vec<u8>,
    /// The number of the segment that comes next; none while nothing is begun.
    next: Option<u8>,
    most: usize,
}

/// A segment that becomes no part of a fragment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TransportError {
    /// It has no data.
    #[error("a segment without data")]
    Empty,
    /// It goes on with what was not begun.
    #[error("segment {0} is not the first one, and none came before it")]
    NotBegun(u8),
    /// It is another one than comes next: what came before it is given up, too.
    #[error("segment {got} came in place of {expected}")]
    Sequence {
        /// Its number.
        got: u8,
        /// The one that comes next.
        expected: u8,
    },
    /// With it, the fragment would be larger than is taken.
    #[error("a fragment of more than {0} octets")]
    TooLong(usize),
}

impl Assembler {
    /// One that takes fragments of up to so many octets; 2048 is the least that the standard asks for.
    #[must_use]
    pub const fn new(most: usize) -> Self {
        Self { held: Vec::new(), next: None, most }
    }

    /// A segment came; gives the fragment of which it was the last one.
    ///
    /// # Errors
    /// When it is part of no fragment. What follows is put together all the same, from the next first segment on.
    pub fn push(&mut self, segment: &[u8]) -> Result<Option<Vec<u8>>, TransportError> {
        let (header, data) = match segment.split_first() {
            Some((header, data)) if !data.is_empty() => (*header, data),
            _ => return Err(TransportError::Empty),
        };
        let number = header & SEQUENCE;
        if header & FIRST != 0 {
            self.held.clear();
        } else {
            match self.next {
                None => return Err(TransportError::NotBegun(number)),
                Some(expected) if expected != number => {
                    self.clear();
                    return Err(TransportError::Sequence { got: number, expected });
                }
                Some(_) => {}
            }
        }
        if self.held.len() + data.len() > self.most {
            self.clear();
            return Err(TransportError::TooLong(self.most));
        }
        self.held.extend_from_slice(data);
        self.next = Some((number + 1) & SEQUENCE);
        if header & FINAL == 0 {
            return Ok(None);
        }
        self.next = None;
        Ok(Some(std::mem::take(&mut self.held)))
    }

    /// The connection is another one: what is held is given up.
    pub fn clear(&mut self) {
        self.held.clear();
        self.next = None;
    }
}
