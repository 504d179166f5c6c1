use crate::{Store, StoreError};

/// Something that somebody did.
#[derive(Debug, Clone)]
pub struct AuditEntry<'a> {
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Who; a name that was tried, for failed sign-ins.
    pub person: &'a str,
    /// From where: an address.
    pub source: &'a str,
    /// What, as a word: `sign-in`, `sign-in-failed`, `activate`, …
    pub action: &'a str,
    /// What exactly.
    pub detail: &'a str,
}

impl Store {
    /// Appends to the audit trail.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_audit(&self, entry: &AuditEntry<'_>) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO audit (at, person, source, action, detail) VALUES (?, ?, ?, ?, ?)")
            .bind(entry.at)
            .bind(entry.person)
            .bind(entry.source)
            .bind(entry.action)
            .bind(entry.detail)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
