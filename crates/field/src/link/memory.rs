use parking_lot::Mutex;
use std::any::Any;
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

/// What protocols remember of the places that links lead to: it outlives connections, and links that are started anew.
#[derive(Clone, Default)]
pub struct Memories {
    /// As many as there were ever targets; each is a few bytes.
    targets: Arc<Mutex<HashMap<String, Arc<dyn Any + Send + Sync>>>>,
}

impl Memories {
    /// What is remembered of a place; nothing yet where it is of another kind.
    pub(crate) fn of<T: Default + Send + Sync + 'static>(&self, target: &str) -> Arc<T> {
        let mut targets = self.targets.lock();
        let known = targets.get(target).cloned().and_then(|known| known.downcast().ok());
        known.unwrap_or_else(|| {
            let new = Arc::<T>::default();
            targets.insert(target.to_owned(), Arc::clone(&new) as _);
            new
        })
    }
}

impl fmt::Debug for Memories {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Memories").finish_non_exhaustive()
    }
}
