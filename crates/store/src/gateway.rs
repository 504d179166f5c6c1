use crate::draft::clear_edits;
use crate::{Store, StoreError};
use sqlx::Row;
use sqlx::mysql::MySqlRow;

/// A gateway that the service knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GatewayRecord {
    /// Its name.
    pub name: String,
    /// The number of its active revision; none while it was never activated.
    pub active: Option<u32>,
    /// Grows with every edit of the draft and every activation.
    pub version: u64,
    /// Whether the draft has objects of its own. If not, it is the active revision.
    pub is_edited: bool,
    /// The number of the files that the draft began with, where that is not the active revision.
    pub draft_files: Option<i64>,
    /// Who changed the draft last.
    pub changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    pub changed_at: i64,
}

impl Store {
    /// All gateways, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn gateways(&self) -> Result<Vec<GatewayRecord>, StoreError> {
        let query = "SELECT * FROM gateway WHERE NOT is_removed ORDER BY name";
        let rows = sqlx::query(query).fetch_all(&self.pool).await?;
        rows.iter().map(record).collect()
    }

    /// One gateway.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn gateway(&self, name: &str) -> Result<Option<GatewayRecord>, StoreError> {
        let query = "SELECT * FROM gateway WHERE name = ? AND NOT is_removed";
        let row = sqlx::query(query).bind(name).fetch_optional(&self.pool).await?;
        row.as_ref().map(record).transpose()
    }

    /// Adds a gateway with an empty draft. One of that name that was removed comes back, with its old revisions.
    ///
    /// # Errors
    /// [`StoreError::Exists`] when there is one of that name.
    pub async fn add_gateway(&self, name: &str, person: &str, at: i64) -> Result<(), StoreError> {
        self.know_gateway(name).await?;
        let update = "UPDATE gateway SET is_removed = FALSE, version = version + 1, changed_by = ?, changed_at = ? \
                      WHERE name = ? AND is_removed";
        let done = sqlx::query(update).bind(person).bind(at).bind(name).execute(&self.pool).await?;
        if done.rows_affected() == 0 { Err(StoreError::Exists(format!("gateway {name}"))) } else { Ok(()) }
    }

    /// Sees to it that there is a row to lock; a new one counts as removed. Outside of any transaction, since two that
    /// insert the same row and then lock it would wait for each other.
    pub(crate) async fn know_gateway(&self, name: &str) -> Result<(), StoreError> {
        let insert = "INSERT IGNORE INTO gateway (name, active, version, is_edited, is_removed, changed_by, changed_at) \
                      VALUES (?, NULL, 0, FALSE, TRUE, '', 0)";
        sqlx::query(insert).bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// Takes a gateway away with its draft. Its revisions stay, but none of them is active. Tells whether it was there.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn remove_gateway(&self, name: &str, person: &str, at: i64) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let update = "UPDATE gateway SET is_removed = TRUE, active = NULL, is_edited = FALSE, draft_files = NULL, version = version + 1, \
                      changed_by = ?, changed_at = ? WHERE name = ? AND NOT is_removed";
        let done = sqlx::query(update).bind(person).bind(at).bind(name).execute(&mut *transaction).await?;
        clear_edits(&mut transaction, name, None).await?;
        transaction.commit().await?;
        Ok(done.rows_affected() > 0)
    }
}

pub(crate) fn record(row: &MySqlRow) -> Result<GatewayRecord, StoreError> {
    Ok(GatewayRecord {
        name: row.try_get("name")?,
        active: row.try_get("active")?,
        version: row.try_get("version")?,
        is_edited: row.try_get("is_edited")?,
        draft_files: row.try_get("draft_files")?,
        changed_by: row.try_get("changed_by")?,
        changed_at: row.try_get("changed_at")?,
    })
}
