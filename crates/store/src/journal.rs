use crate::{Store, StoreError};
use sqlx::Row;

/// Samples of one uplink that are not proven to be with the broker, as the gateway encodes them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalBlock {
    /// Its number; blocks are read in the order of their numbers.
    pub id: u64,
    /// The samples, encoded.
    pub samples: Vec<u8>,
}

impl Store {
    /// Appends a block to the journal of an uplink, and gives its number. It is on disk when this returns.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_journal_block(&self, gateway: &str, uplink: &str, samples: &[u8]) -> Result<u64, StoreError> {
        let insert = "INSERT INTO journal_block (gateway, uplink, samples) VALUES (?, ?, ?)";
        let done = sqlx::query(insert).bind(gateway).bind(uplink).bind(samples).execute(&self.pool).await?;
        Ok(done.last_insert_id())
    }

    /// Removes blocks, all or none; those that are gone already do no harm.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn remove_journal_blocks(&self, blocks: &[u64]) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        for block in blocks {
            sqlx::query("DELETE FROM journal_block WHERE id = ?").bind(block).execute(&mut *transaction).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// The journal of an uplink, oldest block first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn journal_blocks(&self, gateway: &str, uplink: &str) -> Result<Vec<JournalBlock>, StoreError> {
        let query = "SELECT id, samples FROM journal_block WHERE gateway = ? AND uplink = ? ORDER BY id";
        let rows = sqlx::query(query).bind(gateway).bind(uplink).fetch_all(&self.pool).await?;
        rows.into_iter()
            .map(|row| Ok(JournalBlock { id: row.try_get("id")?, samples: row.try_get("samples")? }))
            .collect()
    }
}
