use crate::{AuditEntry, Store, StoreError};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The way into the audit trail that outlives a database that is away: what it does not take is kept in memory, in order,
/// and stored when it is back.
#[derive(Debug, Clone)]
pub struct AuditTrail {
    store: Store,
    pending: Arc<Mutex<VecDeque<WaitingEntry>>>,
    /// One stores at a time: two would store the same entry, and forget the one behind it.
    storing: Arc<tokio::sync::Mutex<()>>,
}

/// So many entries wait at the most: days of what people and hosts do. More are in the log only.
const MOST: usize = 10_000;

#[derive(Debug, Clone)]
struct WaitingEntry {
    at: i64,
    person: String,
    source: String,
    action: String,
    detail: String,
    gateway: String,
    object: String,
    before: Option<String>,
    after: Option<String>,
}

impl WaitingEntry {
    fn new(entry: &AuditEntry<'_>) -> Self {
        Self {
            at: entry.at,
            person: entry.person.to_owned(),
            source: entry.source.to_owned(),
            action: entry.action.to_owned(),
            detail: entry.detail.to_owned(),
            gateway: entry.gateway.to_owned(),
            object: entry.object.to_owned(),
            before: entry.before.clone(),
            after: entry.after.clone(),
        }
    }

    fn entry(&self) -> AuditEntry<'_> {
        AuditEntry {
            at: self.at,
            person: &self.person,
            source: &self.source,
            action: &self.action,
            detail: &self.detail,
            gateway: &self.gateway,
            object: &self.object,
            before: self.before.clone(),
            after: self.after.clone(),
        }
    }
}

impl AuditTrail {
    /// A trail into a database.
    #[must_use]
    pub fn new(store: Store) -> Self {
        Self { store, pending: Arc::default(), storing: Arc::default() }
    }

    fn pending(&self) -> MutexGuard<'_, VecDeque<WaitingEntry>> {
        self.pending.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many entries wait for the database.
    #[must_use]
    pub fn waiting(&self) -> usize {
        self.pending().len()
    }

    /// Appends an entry, after those that wait.
    ///
    /// # Errors
    /// What the database said, when the entry is kept in memory; it is in the log only when there is no room either.
    pub async fn add(&self, entry: &AuditEntry<'_>) -> Result<(), StoreError> {
        let is_first = self.waiting() == 0;
        let error = match is_first {
            true => match self.store.add_audit(entry).await {
                Ok(()) => return Ok(()),
                Err(error) => error,
            },
            false => StoreError::Slow,
        };
        let mut pending = self.pending();
        if pending.len() < MOST {
            pending.push_back(WaitingEntry::new(entry));
        }
        Err(error)
    }

    /// Whether the database answers.
    pub async fn is_there(&self) -> bool {
        self.store.ping().await.is_ok()
    }

    /// Stores what waits, as long as the database takes it.
    ///
    /// # Errors
    /// What the database said; the rest goes on waiting.
    pub async fn flush(&self) -> Result<(), StoreError> {
        let _alone = self.storing.lock().await;
        loop {
            let Some(next) = self.pending().front().cloned() else { return Ok(()) };
            self.store.add_audit(&next.entry()).await?;
            self.pending().pop_front();
        }
    }
}
