use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::sync::Semaphore;

/// Lets requests through that compute for long or make much text: one at a time, each on a thread of its own that ends with
/// it, so that its memory goes, too. Links, uplinks and everybody else's small requests are not held up by them.
#[derive(Debug)]
pub(crate) struct Heavy {
    pub(crate) turns: Arc<Semaphore>,
    pub(crate) bodies: Arc<Semaphore>,
    pub(crate) waiting: AtomicUsize,
}

/// Each has its body and what is made of it.
const AT_A_TIME: usize = 1;
/// How many bytes large bodies may have together that are being read or wait for their turn, and how many count as one. Small
/// ones need no room, since few enough may wait: nobody's edit stands behind somebody's slow upload.
const BODIES: usize = 16 << 20;
pub(crate) const PIECE: usize = 64 << 10;
/// More than so many are told to come back.
const WAITING: usize = 64;

impl Heavy {
    pub(crate) fn new() -> Self {
        Self {
            turns: Arc::new(Semaphore::new(AT_A_TIME)),
            bodies: Arc::new(Semaphore::new(BODIES / PIECE)),
            waiting: AtomicUsize::new(0),
        }
    }
}

/// Counts one that waits, for as long as it does.
pub(crate) struct Waiting<'a>(&'a AtomicUsize);

impl<'a> Waiting<'a> {
    pub(crate) fn new(count: &'a AtomicUsize) -> Option<Self> {
        let waiting = Self(count);
        (count.fetch_add(1, Ordering::Relaxed) < WAITING).then_some(waiting)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}
