use parking_lot::Mutex;
use std::fmt;
use std::sync::Arc;

/// Asks a listener to say when all that it was told before is safe: kept where a sudden end loses nothing of it, delivered, or not
/// wanted. Dropped without a word, it says that this cannot be.
#[derive(Clone)]
pub struct Receipt(Arc<Mutex<Option<Stored>>>);

type Stored = Box<dyn FnOnce() + Send>;

impl Receipt {
    /// A receipt that does this when it is given back.
    #[must_use]
    pub fn new(stored: impl FnOnce() + Send + 'static) -> Self {
        Self(Arc::new(Mutex::new(Some(Box::new(stored)))))
    }

    /// All of it is safe.
    pub fn stored(&self) {
        let stored = self.0.lock().take();
        if let Some(stored) = stored {
            stored();
        }
    }
}

impl fmt::Debug for Receipt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Receipt").finish_non_exhaustive()
    }
}
