use interlex_field::Keeper;
use interlex_store::Store;
use std::pin::Pin;

/// Keeps what the field side of a gateway remembers in the database.
#[derive(Debug)]
pub(crate) struct StoreKeeper {
    pub(crate) store: Store,
    pub(crate) gateway: String,
}

impl Keeper for StoreKeeper {
    fn load(&self, place: String) -> Pin<Box<dyn Future<Output = Option<Vec<u8>>> + Send + '_>> {
        Box::pin(async move {
            let kept = self.store.field_memory(&self.gateway, &place).await;
            kept.inspect_err(|error| tracing::warn!(gateway = self.gateway, %error, "what was remembered of the field cannot be read"))
                .ok()
                .flatten()
        })
    }

    fn save(&self, place: String, content: Vec<u8>) -> Pin<Box<dyn Future<Output = bool> + Send + '_>> {
        // While the database is away it is tried again, with what is so then.
        Box::pin(async move { self.store.set_field_memory(&self.gateway, &place, &content).await.is_ok() })
    }
}
