use crate::channel::RequestId;
use std::collections::{BTreeSet, HashMap};
use std::time::Instant;

/// Requests that wait for their answers, each until its deadline.
#[derive(Debug)]
pub(super) struct Requests<T> {
    waiting: HashMap<RequestId, (Instant, T)>,
    deadlines: BTreeSet<(Instant, RequestId)>,
}

impl<T> Default for Requests<T> {
    fn default() -> Self {
        Self { waiting: HashMap::new(), deadlines: BTreeSet::new() }
    }
}

impl<T> Requests<T> {
    pub(super) fn sent(&mut self, id: RequestId, deadline: Instant, what: T) {
        self.waiting.insert(id, (deadline, what));
        self.deadlines.insert((deadline, id));
    }

    /// Its answer came; `None` for what nobody waits for any more.
    pub(super) fn answered(&mut self, id: RequestId) -> Option<T> {
        let (deadline, what) = self.waiting.remove(&id)?;
        self.deadlines.remove(&(deadline, id));
        Some(what)
    }

    /// The next one whose deadline has passed.
    pub(super) fn expired(&mut self, now: Instant) -> Option<(RequestId, T)> {
        let (_, id) = self.deadlines.first().copied().filter(|(deadline, _)| now >= *deadline)?;
        self.answered(id).map(|what| (id, what))
    }

    pub(super) fn deadline(&self) -> Option<Instant> {
        self.deadlines.first().map(|(deadline, _)| *deadline)
    }

    /// All of them, in the order in which they were sent: no answers come any more.
    pub(super) fn drain(&mut self) -> Vec<(RequestId, T)> {
        self.deadlines.clear();
        let mut all: Vec<_> = self.waiting.drain().map(|(id, (_, what))| (id, what)).collect();
        all.sort_by_key(|(id, _)| *id);
        all
    }
}
