use crate::{Store, StoreError};
use sqlx::Row;

/// What an uplink has done since it is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UplinkCount {
    /// Since when, in milliseconds since 1970 UTC.
    pub since: i64,
    /// Samples that are with the broker.
    pub delivered: u64,
    /// Messages published.
    pub messages: u64,
    /// Samples lost.
    pub lost: u64,
}

impl Store {
    /// What an uplink has done, as far as it was kept.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn uplink_count(&self, gateway: &str, uplink: &str) -> Result<Option<UplinkCount>, StoreError> {
        let query = "SELECT since, delivered, messages, lost FROM uplink_count WHERE gateway = ? AND uplink = ?";
        let query = sqlx::query(query).bind(gateway).bind(uplink);
        let row = self.in_time(async { Ok(query.fetch_optional(&self.pool).await?) }).await?;
        let count = row.map(|row| {
            Ok::<_, StoreError>(UplinkCount {
                since: row.try_get("since")?,
                delivered: row.try_get("delivered")?,
                messages: row.try_get("messages")?,
                lost: row.try_get("lost")?,
            })
        });
        count.transpose()
    }

    /// Keeps what an uplink has done; nothing of it ever becomes less.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn keep_uplink_count(&self, gateway: &str, uplink: &str, count: UplinkCount) -> Result<(), StoreError> {
        let upsert = "INSERT INTO uplink_count (gateway, uplink, since, delivered, messages, lost) VALUES (?, ?, ?, ?, ?, ?) \
                      ON DUPLICATE KEY UPDATE delivered = GREATEST(delivered, VALUES(delivered)), \
                      messages = GREATEST(messages, VALUES(messages)), lost = GREATEST(lost, VALUES(lost))";
        let query = sqlx::query(upsert).bind(gateway).bind(uplink).bind(count.since);
        let query = query.bind(count.delivered).bind(count.messages).bind(count.lost);
        self.in_time(async { Ok(query.execute(&self.pool).await.map(drop)?) }).await
    }
}
