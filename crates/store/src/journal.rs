use crate::{Store, StoreError};
use sqlx::Row;

/// Samples of one uplink that are not proven to be with the broker, as the gateway encodes them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalBlock {
    /// The samples, encoded.
    pub samples: Vec<u8>,
    /// How many they are.
    pub count: u32,
    /// When the oldest of them came, in milliseconds since 1970 UTC.
    pub oldest_at: i64,
    /// When the newest of them came, in milliseconds since 1970 UTC.
    pub newest_at: i64,
}

/// A block of the journal, without its samples.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalEntry {
    /// Its number; blocks are read in the order of their numbers.
    pub id: u64,
    /// How many bytes it has.
    pub bytes: u64,
    /// How many samples; 0 when that was not kept.
    pub count: u32,
    /// When the oldest of them came, in milliseconds since 1970 UTC.
    pub oldest_at: i64,
    /// When the newest of them came, in milliseconds since 1970 UTC.
    pub newest_at: i64,
}

/// A stretch of time from which samples are missing at a broker.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GapRecord {
    /// When the first of them came, in milliseconds since 1970 UTC.
    pub from: i64,
    /// When the last of them came.
    pub to: i64,
    /// How many.
    pub count: u64,
    /// Why, in at most 64 characters.
    pub why: String,
}

impl Store {
    /// The gaps of an uplink, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn uplink_gaps(&self, gateway: &str, uplink: &str) -> Result<Vec<GapRecord>, StoreError> {
        let query = "SELECT from_at, to_at, samples, why FROM uplink_gap WHERE gateway = ? AND uplink = ? ORDER BY id";
        let rows = sqlx::query(query).bind(gateway).bind(uplink).fetch_all(&self.pool).await?;
        let gap = |row: sqlx::mysql::MySqlRow| {
            Ok(GapRecord {
                from: row.try_get("from_at")?,
                to: row.try_get("to_at")?,
                count: row.try_get("samples")?,
                why: row.try_get("why")?,
            })
        };
        rows.into_iter().map(gap).collect()
    }

    /// Writes the gaps of an uplink in place of those that were known.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_uplink_gaps(&self, gateway: &str, uplink: &str, gaps: &[GapRecord]) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let delete = "DELETE FROM uplink_gap WHERE gateway = ? AND uplink = ?";
        sqlx::query(delete).bind(gateway).bind(uplink).execute(&mut *transaction).await?;
        let insert = "INSERT INTO uplink_gap (gateway, uplink, from_at, to_at, samples, why) VALUES (?, ?, ?, ?, ?, ?)";
        for gap in gaps {
            let query = sqlx::query(insert).bind(gateway).bind(uplink).bind(gap.from).bind(gap.to);
            query.bind(gap.count).bind(&gap.why).execute(&mut *transaction).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// Appends a block to the journal of an uplink, and gives its number. It is on disk when this returns.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_journal_block(
        &self,
        gateway: &str,
        uplink: &str,
        block: &JournalBlock,
    ) -> Result<u64, StoreError> {
        let insert = "INSERT INTO journal_block (gateway, uplink, samples, sample_count, oldest_at, newest_at) \
                      VALUES (?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(insert).bind(gateway).bind(uplink).bind(&block.samples).bind(block.count);
        let done = query.bind(block.oldest_at).bind(block.newest_at).execute(&self.pool).await?;
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

    /// What the journal of an uplink holds, oldest block first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn journal_entries(&self, gateway: &str, uplink: &str) -> Result<Vec<JournalEntry>, StoreError> {
        let query = "SELECT id, LENGTH(samples) AS bytes, sample_count, oldest_at, newest_at FROM journal_block \
                     WHERE gateway = ? AND uplink = ? ORDER BY id";
        let rows = sqlx::query(query).bind(gateway).bind(uplink).fetch_all(&self.pool).await?;
        let entry = |row: sqlx::mysql::MySqlRow| {
            Ok(JournalEntry {
                id: row.try_get("id")?,
                bytes: u64::try_from(row.try_get::<i64, _>("bytes")?).unwrap_or(0),
                count: row.try_get("sample_count")?,
                oldest_at: row.try_get("oldest_at")?,
                newest_at: row.try_get("newest_at")?,
            })
        };
        rows.into_iter().map(entry).collect()
    }

    /// The samples of a block; `None` when it is gone.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn journal_block(&self, id: u64) -> Result<Option<Vec<u8>>, StoreError> {
        let query = "SELECT samples FROM journal_block WHERE id = ?";
        Ok(sqlx::query_scalar(query).bind(id).fetch_optional(&self.pool).await?)
    }
}
