use arc_swap::ArcSwap;
use interlex_core::{FieldEvent, Receipt};
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot};

/// The word of every listener that what it was told is safe.
#[derive(Debug, Default)]
pub(crate) struct Keeping(Vec<oneshot::Receiver<()>>);

impl Keeping {
    /// Waits until it is; `false` where one of them cannot say so any more.
    pub(crate) async fn until_safe(self) -> bool {
        for stored in self.0 {
            if stored.await.is_err() {
                return false;
            }
        }
        true
    }
}

/// Where links send what they have to tell. Listeners come and go while links run on.
#[derive(Debug, Clone, Default)]
pub struct Listeners {
    senders: Arc<ArcSwap<Vec<mpsc::Sender<FieldEvent>>>>,
}

impl Listeners {
    /// These are the listeners from now on.
    pub fn set(&self, senders: Vec<mpsc::Sender<FieldEvent>>) {
        self.senders.store(Arc::new(senders));
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.senders.load().is_empty()
    }

    /// Tells every listener. They always take in what they are told, sooner or later to their own memory; here a full queue
    /// waits for that.
    pub(crate) async fn tell(&self, event: FieldEvent) {
        for listener in self.senders.load_full().iter() {
            // An error means that the listener has ended, at shutdown; there is nobody to tell.
            let _ = listener.send(event.clone()).await;
        }
    }

    /// Asks every listener to say when all that it was told before is safe.
    pub(crate) async fn keep(&self) -> Keeping {
        let mut keeping = Keeping::default();
        for listener in self.senders.load_full().iter() {
            let (stored, is_stored) = oneshot::channel();
            // Nobody may wait for it any more.
            let receipt = Receipt::new(move || _ = stored.send(()));
            // One that has ended takes its receipt with it.
            _ = listener.send(FieldEvent::Keep(receipt)).await;
            keeping.0.push(is_stored);
        }
        keeping
    }
}
