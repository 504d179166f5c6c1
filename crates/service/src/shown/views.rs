use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::sync::watch;

/// The points that live streams show which follow what is in view: said by whoever looks, whenever that changes.
#[derive(Debug, Clone, Default)]
pub(crate) struct Views {
    open: Arc<Mutex<HashMap<u64, View>>>,
    last: Arc<AtomicU64>,
}

#[derive(Debug)]
struct View {
    /// Nobody else says what is in it.
    person: String,
    points: watch::Sender<Arc<[String]>>,
}

/// A stream's end of it; whoever drops it closes it.
#[derive(Debug)]
pub(crate) struct Looking {
    pub(crate) number: u64,
    pub(crate) points: watch::Receiver<Arc<[String]>>,
    of: Views,
}

impl Views {
    /// Opens one with nothing in it.
    pub(crate) fn open(&self, person: &str) -> Looking {
        let number = self.last.fetch_add(1, Ordering::Relaxed) + 1;
        let (points, looking) = watch::channel(Arc::default());
        self.open.lock().insert(number, View { person: person.to_owned(), points });
        Looking { number, points: looking, of: self.clone() }
    }

    /// These are in view from now on. Tells whether there is such a one of this person.
    pub(crate) fn look(&self, number: u64, person: &str, points: Vec<String>) -> bool {
        let open = self.open.lock();
        let view = open.get(&number).filter(|view| view.person == person);
        view.is_some_and(|view| view.points.send(points.into()).is_ok())
    }
}

impl Drop for Looking {
    fn drop(&mut self) {
        self.of.open.lock().remove(&self.number);
    }
}
