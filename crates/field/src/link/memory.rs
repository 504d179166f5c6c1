use super::identity::OwnIdentity;
use interlex_core::SequenceEntry;
use parking_lot::Mutex;
use std::any::Any;
use std::collections::HashMap;
use std::fmt;
use std::pin::Pin;
use std::sync::Arc;

/// What protocols remember of the places that links lead to: it outlives connections, and links that are started anew.
#[derive(Clone, Default)]
pub struct Memories {
    /// As many as there were ever targets; each is a few bytes.
    targets: Arc<Mutex<HashMap<String, Arc<dyn Any + Send + Sync>>>>,
    identity: OwnIdentity,
    keeper: Option<Arc<dyn Keeper>>,
}

/// A change that was kept: its address, and its mark.
pub type KeptEvent = (String, u64);

/// Keeps what protocols remember beyond the process.
pub trait Keeper: fmt::Debug + Send + Sync {
    /// What was kept of a place; none also where nobody can tell now.
    fn load(&self, place: String) -> Pin<Box<dyn Future<Output = Option<Vec<u8>>> + Send + '_>>;

    /// Keeps something of a place; tells whether it is kept.
    fn save(&self, place: String, content: Vec<u8>) -> Pin<Box<dyn Future<Output = bool> + Send + '_>>;

    /// Keeps changes in the sequence of events, all at once and once each, behind those that are there. It takes as long as it takes.
    fn keep_events(&self, source: &str, entries: Vec<SequenceEntry>) -> Pin<Box<dyn Future<Output = ()> + Send + '_>>;

    /// The last changes that a source told with their times, in their order; none where nobody can tell now.
    fn last_events(&self, source: &str) -> Pin<Box<dyn Future<Output = Option<Vec<KeptEvent>>> + Send + '_>>;
}

impl Memories {
    /// Nothing is remembered yet; this program is known by this certificate.
    #[must_use]
    pub fn new(identity: OwnIdentity) -> Self {
        Self { targets: Arc::default(), identity, keeper: None }
    }

    /// Those of one gateway, which are kept for it.
    #[must_use]
    pub fn of_gateway(&self, keeper: Option<Arc<dyn Keeper>>) -> Self {
        Self { targets: Arc::default(), identity: self.identity.clone(), keeper }
    }

    /// By what this program is known to devices that ask for certificates.
    #[must_use]
    pub const fn identity(&self) -> &OwnIdentity {
        &self.identity
    }

    /// Who keeps what is remembered beyond the process, where somebody does.
    pub(crate) const fn keeper(&self) -> Option<&Arc<dyn Keeper>> {
        self.keeper.as_ref()
    }

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
