use arc_swap::ArcSwap;
use interlex_core::FieldEvent;
use std::sync::Arc;
use tokio::sync::mpsc;

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
}
