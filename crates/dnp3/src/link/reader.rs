use super::frame::{Frame, FrameError, START};

/// Finds frames in octets, however those were cut up and whatever stands between them.
///
/// It holds no more than one frame, and what arrived with it.
#[derive(Debug, Default)]
pub struct FrameReader {
    octets: Vec<u8>,
    /// So many of them are done with.
    done: usize,
    /// So many before that are those of the last frame.
    last: usize,
    /// Octets that were passed over since they belong to no frame.
    noise: u64,
}

impl FrameReader {
    /// Octets that came.
    pub fn push(&mut self, octets: &[u8]) {
        self.octets.drain(..self.done);
        (self.done, self.last) = (0, 0);
        self.octets.extend_from_slice(octets);
    }

    /// The next frame, or what is wrong with what could have been one: reading goes on behind its start octets, since the length of
    /// a broken frame says nothing. `None` until more has come.
    pub fn next_frame(&mut self) -> Option<Result<Frame, FrameError>> {
        self.find_start();
        match Frame::size(self.rest()) {
            Ok(Some(size)) => {
                let frame = Frame::read(self.rest().get(..size)?);
                match frame {
                    Ok(_) => (self.done, self.last) = (self.done + size, size),
                    Err(_) => self.pass_over(),
                }
                Some(frame)
            }
            Ok(None) => None,
            Err(error) => {
                self.pass_over();
                Some(Err(error))
            }
        }
    }

    /// The octets of the frame that was read last, until more are pushed.
    #[must_use]
    pub fn last_frame(&self) -> &[u8] {
        self.octets.get(self.done - self.last..self.done).unwrap_or_default()
    }

    /// How many octets were passed over so far.
    #[must_use]
    pub const fn noise(&self) -> u64 {
        self.noise
    }

    /// How many octets wait for the rest of their frame.
    #[must_use]
    pub const fn waiting(&self) -> usize {
        self.octets.len() - self.done
    }

    /// The connection is another one, or the line was silent for too long: what is held becomes no frame.
    pub fn clear(&mut self) {
        self.drop_first(self.waiting());
    }

    fn rest(&self) -> &[u8] {
        self.octets.get(self.done..).unwrap_or_default()
    }

    fn pass_over(&mut self) {
        self.drop_first(START.len());
    }

    fn find_start(&mut self) {
        let [first, second] = START;
        let rest = self.rest();
        let is_start =
            |at: &usize| rest.get(*at) == Some(&first) && rest.get(at + 1).is_none_or(|octet| *octet == second);
        let start = (0..rest.len()).find(is_start).unwrap_or(rest.len());
        self.drop_first(start);
    }

    fn drop_first(&mut self, count: usize) {
        let count = count.min(self.waiting());
        (self.done, self.last) = (self.done + count, 0);
        self.noise += u64::try_from(count).unwrap_or_default();
    }
}
