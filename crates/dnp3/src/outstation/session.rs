use super::event_buffer::EventBuffer;
use crate::application::Control;
use crate::master::Classes;
use std::collections::{BTreeSet, VecDeque};
use std::time::Instant;

/// What an outstation knows of one master.
#[derive(Debug)]
pub(super) struct Session {
    pub(super) buffer: EventBuffer,
    /// The last request, and the first fragment of its answer: what comes again is answered again, and not done again.
    pub(super) last: Option<(Vec<u8>, Option<Vec<u8>>)>,
    /// The number of a select, its objects, and until when they may be operated.
    pub(super) selected: Option<(u8, Vec<u8>, Instant)>,
    /// What waits for its confirm, asked for and not.
    pub(super) solicited: Option<Waiting>,
    pub(super) unsolicited: Option<Waiting>,
    /// A read that came while something unasked waits for its confirm: it is answered after that.
    pub(super) deferred: Option<Vec<u8>>,
    pub(super) ready: VecDeque<Vec<u8>>,
    /// Of which classes events are told unasked.
    pub(super) enabled: Classes,
    /// The number of the next thing that is told unasked.
    pub(super) next_unsolicited: u8,
    /// Whether the first thing that was told unasked, which is nothing, was confirmed.
    pub(super) is_greeted: bool,
    pub(super) was_broadcast: bool,
    pub(super) recorded: Option<Instant>,
}

/// Fragments that are told one after the other, each when the one before was confirmed.
#[derive(Debug)]
pub(super) struct Waiting {
    pub(super) sequence: u8,
    /// The fragment itself, for when it is told again.
    pub(super) fragment: Vec<u8>,
    pub(super) events: BTreeSet<u64>,
    pub(super) deadline: Instant,
    /// What follows: its octets, and its events.
    pub(super) rest: VecDeque<(Control, Vec<u8>, BTreeSet<u64>)>,
}

impl Session {
    pub(super) const fn new(most_events: usize) -> Self {
        Self {
            buffer: EventBuffer::new(most_events),
            last: None,
            selected: None,
            solicited: None,
            unsolicited: None,
            deferred: None,
            ready: VecDeque::new(),
            enabled: Classes::NONE,
            next_unsolicited: 0,
            is_greeted: false,
            was_broadcast: false,
            recorded: None,
        }
    }
}
