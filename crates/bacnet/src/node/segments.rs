//! Messages that are larger than one datagram: sent and taken in segments, with windows.
//!
//! Source: ASHRAE 135-2016, clause 5.2 and 5.4.

use crate::apdu::Segment;
use std::ops::Range;

/// Sends one message in segments.
#[derive(Debug)]
pub(super) struct Sender {
    data: Vec<u8>,
    size: usize,
    /// How many segments may be under way: one until the other side says more.
    window: u8,
    /// How many the other side has.
    acknowledged: usize,
    /// How many were sent.
    sent: usize,
}

/// What an acknowledgment says to a sender.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Acknowledged {
    /// The other side has everything.
    All,
    /// These are to be sent now.
    Send,
    /// Nothing new.
    Nothing,
}

impl Sender {
    /// One for a message, of which so many octets go into a segment.
    pub(super) const fn new(data: Vec<u8>, size: usize) -> Self {
        Self { data, size, window: 1, acknowledged: 0, sent: 0 }
    }

    /// The same message, of which the other side has nothing.
    pub(super) fn anew(self) -> Self {
        Self::new(self.data, self.size)
    }

    pub(super) fn total(&self) -> usize {
        self.data.len().div_ceil(self.size.max(1)).max(1)
    }

    pub(super) fn has_sent_all(&self) -> bool {
        self.sent == self.total()
    }

    /// The segments that may be sent now, from the first one that the other side does not have.
    pub(super) fn send(&mut self) -> Range<usize> {
        self.sent = (self.acknowledged + usize::from(self.window)).min(self.total());
        self.acknowledged..self.sent
    }

    /// One of them, with its octets.
    pub(super) fn segment(&self, at: usize, proposed_window: u8) -> (Segment, &[u8]) {
        let from = at * self.size;
        let data = self.data.get(from..(from + self.size).min(self.data.len())).unwrap_or_default();
        let [.., sequence] = at.to_be_bytes();
        (Segment { more_follows: at + 1 < self.total(), sequence, window: proposed_window }, data)
    }

    /// The other side says what it has.
    pub(super) fn acknowledged(&mut self, sequence: u8, window: u8, is_negative: bool) -> Acknowledged {
        let [.., first] = self.acknowledged.to_be_bytes();
        let news = usize::from(sequence.wrapping_sub(first)) + 1;
        if news <= self.sent - self.acknowledged {
            self.acknowledged += news;
            self.window = window;
            return if self.acknowledged == self.total() { Acknowledged::All } else { Acknowledged::Send };
        }
        // It has what it had before, and misses what came behind.
        if is_negative && news == 256 { Acknowledged::Send } else { Acknowledged::Nothing }
    }
}

/// Takes one message in segments.
#[derive(Debug)]
pub(super) struct Taker {
    data: Vec<u8>,
    /// The number of the segment that comes next.
    next: u8,
    /// How many came since the last acknowledgment.
    since: u8,
    pub(super) window: u8,
    /// It was said already that one is missing.
    is_missed: bool,
}

/// What becomes of a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Taken {
    /// It is kept.
    Kept,
    /// What came in order is to be acknowledged: up to a number.
    Acknowledge(u8),
    /// One is missing behind a number.
    Missing(u8),
    /// It was the last one, and is to be acknowledged.
    Done(u8),
    /// It was there already.
    Repeated,
    /// It is more than may be.
    TooMuch,
}

impl Taker {
    pub(super) fn new(proposed: u8, own: u8) -> Self {
        Self { data: Vec::new(), next: 0, since: 0, window: proposed.min(own).max(1), is_missed: false }
    }

    pub(super) fn into_data(self) -> Vec<u8> {
        self.data
    }

    pub(super) fn take(&mut self, segment: Segment, data: &[u8], most: usize) -> Taken {
        let last = self.next.wrapping_sub(1);
        if segment.sequence == self.next {
            if self.data.len() + data.len() > most {
                return Taken::TooMuch;
            }
            let is_first = self.data.is_empty() && self.since == 0 && segment.sequence == 0;
            self.data.extend(data);
            self.next = self.next.wrapping_add(1);
            self.since += 1;
            self.is_missed = false;
            if !segment.more_follows {
                return Taken::Done(segment.sequence);
            }
            // The first one is acknowledged at once: that says the window.
            if is_first || self.since >= self.window {
                self.since = 0;
                return Taken::Acknowledge(segment.sequence);
            }
            return Taken::Kept;
        }
        let back = last.wrapping_sub(segment.sequence);
        if back < self.window {
            // What came last came again: whoever sends does not know that it is here.
            if back != 0 {
                return Taken::Repeated;
            }
            self.since = 0;
            return Taken::Acknowledge(last);
        }
        if std::mem::replace(&mut self.is_missed, true) {
            return Taken::Repeated;
        }
        self.since = 0;
        Taken::Missing(last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Carries a message over a way that loses, doubles and reorders what it likes; tells what arrived.
    fn carry(data: &[u8], size: usize, window: u8, mut fate: impl FnMut() -> u8) -> Option<Vec<u8>> {
        let mut sender = Sender::new(data.to_vec(), size);
        let mut taker = Taker::new(window, 127);
        for _ in 0..20_000 {
            let mut way: Vec<usize> = Vec::new();
            for at in sender.send() {
                match fate() {
                    0 => {}
                    1 => way.extend([at, at]),
                    2 => way.insert(0, at),
                    _ => way.push(at),
                }
            }
            for at in way {
                let (segment, octets) = sender.segment(at, window);
                let (sequence, is_negative) = match taker.take(segment, octets, usize::MAX) {
                    Taken::Kept | Taken::Repeated => continue,
                    Taken::Acknowledge(sequence) => (sequence, false),
                    Taken::Missing(sequence) => (sequence, true),
                    Taken::Done(_) => return Some(taker.into_data()),
                    Taken::TooMuch => return None,
                };
                if fate() != 0 {
                    sender.acknowledged(sequence, taker.window, is_negative);
                }
            }
        }
        None
    }

    proptest! {
        #[test]
        fn a_message_arrives_whole_over_a_way_that_loses_doubles_and_reorders(
            length in 1_usize..9000, size in 20_usize..60, window in 1_u8..=127, seed: u64,
        ) {
            let mut rng = fastrand::Rng::with_seed(seed);
            let data: Vec<u8> = (0..length).map(|at| u8::try_from(at % 251).unwrap()).collect();
            let arrived = carry(&data, size, window, || rng.u8(0..8));
            prop_assert_eq!(arrived, Some(data));
        }
    }

    #[test]
    fn numbers_wrap_and_no_segment_is_sent_in_vain() {
        let data = vec![7; 700 * 20];
        let mut sent = 0;
        let mut sender = Sender::new(data, 20);
        let mut taker = Taker::new(16, 16);
        'all: loop {
            for at in sender.send() {
                sent += 1;
                let (segment, octets) = sender.segment(at, 16);
                match taker.take(segment, octets, usize::MAX) {
                    Taken::Acknowledge(sequence) => {
                        sender.acknowledged(sequence, 16, false);
                    }
                    Taken::Done(_) => break 'all,
                    _ => {}
                }
            }
        }
        assert_eq!((sent, taker.into_data().len()), (700, 14_000));
    }
}
