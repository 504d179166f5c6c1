use super::LinkFunction;
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// How frames are confirmed by whoever gets them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkConfirms {
    /// How long a confirm may take.
    pub timeout: Duration,
    /// How often a frame is sent again when none comes.
    pub retries: u8,
}

/// Sends user data to one station as frames that it confirms, one after the other: each again until it is.
///
/// ```text
///          reset ──ack──▶ ready ──frame──▶ waiting ──ack──▶ ready, with the other frame count
///            ▲                               │ timeout: the same again
///            └────── given up ◀──────────────┘
/// ```
///
/// Source: IEEE 1815-2012, section 9.2.6 (primary station, with confirm).
#[derive(Debug)]
pub(crate) struct Confirmer {
    confirms: LinkConfirms,
    /// The count of the next frame, once the links are reset.
    count: Option<bool>,
    queue: VecDeque<Vec<u8>>,
    waiting: Option<Waiting>,
}

#[derive(Debug)]
struct Waiting {
    function: LinkFunction,
    user_data: Vec<u8>,
    deadline: Instant,
    sent_again: u8,
    is_due: bool,
}

/// More than a fragment waits for nobody: what is asked then is not answered.
const MOST_FRAMES: usize = 64;

impl Confirmer {
    pub(crate) const fn new(confirms: LinkConfirms) -> Self {
        Self { confirms, count: None, queue: VecDeque::new(), waiting: None }
    }

    /// Parts of a fragment that are to go.
    pub(crate) fn push(&mut self, parts: impl IntoIterator<Item = Vec<u8>>) {
        self.queue.extend(parts);
        if self.queue.len() > MOST_FRAMES {
            self.queue.clear();
        }
    }

    /// The next frame: what it asks for, and its user data.
    pub(crate) fn poll(&mut self, now: Instant) -> Option<(LinkFunction, Vec<u8>)> {
        if self.waiting.is_none() {
            let (function, user_data) = match self.count {
                _ if self.queue.is_empty() => return None,
                None => (LinkFunction::ResetLinkStates, Vec::new()),
                Some(frame_count) => {
                    (LinkFunction::ConfirmedUserData { frame_count }, self.queue.pop_front().unwrap_or_default())
                }
            };
            let deadline = now + self.confirms.timeout;
            self.waiting = Some(Waiting { function, user_data, deadline, sent_again: 0, is_due: true });
        }
        let waiting = self.waiting.as_mut().filter(|waiting| waiting.is_due)?;
        waiting.is_due = false;
        Some((waiting.function, waiting.user_data.clone()))
    }

    /// The other side answered.
    pub(crate) fn handle(&mut self, function: LinkFunction) {
        match (function, &self.waiting) {
            (LinkFunction::Ack { .. }, Some(waiting)) => {
                self.count = match waiting.function {
                    LinkFunction::ConfirmedUserData { frame_count } => Some(!frame_count),
                    _ => Some(true),
                };
                self.waiting = None;
            }
            // It wants to begin anew, or knows nothing of confirms.
            (LinkFunction::Nack { .. } | LinkFunction::NotSupported { .. }, Some(_)) => self.clear(),
            _ => {}
        }
    }

    /// Nothing is known of the other side any more.
    pub(crate) fn clear(&mut self) {
        (self.count, self.waiting) = (None, None);
        self.queue.clear();
    }

    pub(crate) fn deadline(&self) -> Option<Instant> {
        self.waiting.as_ref().map(|waiting| waiting.deadline)
    }

    /// Whether something is on its way, and nobody else may speak.
    pub(crate) fn is_busy(&self) -> bool {
        self.waiting.is_some() || !self.queue.is_empty()
    }

    pub(crate) fn handle_timeout(&mut self, now: Instant) {
        let Some(waiting) = self.waiting.as_mut().filter(|waiting| now >= waiting.deadline) else { return };
        if waiting.sent_again >= self.confirms.retries {
            return self.clear();
        }
        waiting.sent_again += 1;
        (waiting.deadline, waiting.is_due) = (now + self.confirms.timeout, true);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ACK: LinkFunction = LinkFunction::Ack { is_full: false };

    #[test]
    fn frames_go_one_after_the_other_each_again_until_it_is_confirmed() {
        let second = Duration::from_secs(1);
        let mut confirmer = Confirmer::new(LinkConfirms { timeout: second, retries: 1 });
        #[expect(clippy::disallowed_methods, reason = "where time begins; it goes on by itself")]
        let start = Instant::now();
        assert_eq!(confirmer.poll(start), None);
        confirmer.push([vec![1], vec![2], vec![3]]);
        assert_eq!(confirmer.poll(start), Some((LinkFunction::ResetLinkStates, Vec::new())));
        assert_eq!(confirmer.poll(start), None, "until that is confirmed");
        confirmer.handle(ACK);
        let frame = |frame_count, octet| Some((LinkFunction::ConfirmedUserData { frame_count }, vec![octet]));
        assert_eq!(confirmer.poll(start), frame(true, 1));
        confirmer.handle_timeout(start + second);
        assert_eq!(confirmer.poll(start + second), frame(true, 1), "the same once more");
        confirmer.handle(ACK);
        assert_eq!(confirmer.poll(start + second), frame(false, 2));
        confirmer.handle_timeout(start + 2 * second);
        confirmer.handle_timeout(start + 3 * second);
        assert_eq!((confirmer.poll(start + 3 * second), confirmer.is_busy()), (None, false), "given up");
        confirmer.push([vec![4]]);
        assert_eq!(confirmer.poll(start), Some((LinkFunction::ResetLinkStates, Vec::new())));
        confirmer.handle(LinkFunction::NotSupported { is_full: false });
        assert!(!confirmer.is_busy());
    }
}
