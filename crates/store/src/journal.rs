use crate::{Store, StoreError};
use serde::{Deserialize, Serialize};
use sqlx::Row;

/// One sample of the journal. It names its point, since indices change with every revision.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct JournalSample {
    /// Device name.
    pub device: String,
    /// Point name.
    pub point: String,
    /// The value, `null` when there was none.
    pub value: serde_json::Value,
    /// Quality and reason as text, `good` when it was.
    pub quality: String,
    /// When the value arose, in milliseconds since 1970 UTC.
    pub at: i64,
}

/// Rows of about 100 kB: far below the packet size of any server, few enough statements for a million samples.
const SAMPLES_PER_ROW: usize = 1000;

impl Store {
    /// Appends samples to the journal of an uplink, all or none.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_to_journal(
        &self,
        gateway: &str,
        uplink: &str,
        samples: &[JournalSample],
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        for chunk in samples.chunks(SAMPLES_PER_ROW) {
            let text =
                serde_json::to_string(chunk).map_err(|source| StoreError::Content { what: "samples", source })?;
            let insert = "INSERT INTO journal (gateway, uplink, samples) VALUES (?, ?, ?)";
            sqlx::query(insert).bind(gateway).bind(uplink).bind(text).execute(&mut *transaction).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// Takes the whole journal of an uplink out, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]; the journal stays as it was then.
    pub async fn take_journal(&self, gateway: &str, uplink: &str) -> Result<Vec<JournalSample>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let query = "SELECT samples FROM journal WHERE gateway = ? AND uplink = ? ORDER BY id FOR UPDATE";
        let rows = sqlx::query(query).bind(gateway).bind(uplink).fetch_all(&mut *transaction).await?;
        let mut samples = Vec::new();
        for row in rows {
            let text: String = row.try_get("samples")?;
            let chunk: Vec<JournalSample> =
                serde_json::from_str(&text).map_err(|source| StoreError::Content { what: "the journal", source })?;
            samples.extend(chunk);
        }
        let delete = "DELETE FROM journal WHERE gateway = ? AND uplink = ?";
        sqlx::query(delete).bind(gateway).bind(uplink).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(samples)
    }
}
