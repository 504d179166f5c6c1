use crate::{Store, StoreError};

impl Store {
    /// The bdSeq of the last CONNECT of an uplink, if it ever made one.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn bd_seq(&self, gateway: &str, uplink: &str) -> Result<Option<u8>, StoreError> {
        let query = "SELECT bd_seq FROM uplink WHERE gateway = ? AND name = ?";
        Ok(sqlx::query_scalar(query).bind(gateway).bind(uplink).fetch_optional(&self.pool).await?)
    }

    /// Keeps the bdSeq of a CONNECT.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_bd_seq(&self, gateway: &str, uplink: &str, bd_seq: u8) -> Result<(), StoreError> {
        let upsert = "INSERT INTO uplink (gateway, name, bd_seq) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE bd_seq = VALUES(bd_seq)";
        sqlx::query(upsert).bind(gateway).bind(uplink).bind(bd_seq).execute(&self.pool).await?;
        Ok(())
    }

    /// The time of the last STATE of the primary host, where no orderly end came after it.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn host_known(&self, gateway: &str, uplink: &str) -> Result<Option<u64>, StoreError> {
        let query = "SELECT host_known FROM uplink WHERE gateway = ? AND name = ?";
        let known = sqlx::query_scalar(query).bind(gateway).bind(uplink).fetch_optional(&self.pool).await?;
        Ok(known.flatten())
    }

    /// Keeps the time of a STATE of the primary host, or forgets it at an orderly end.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_host_known(&self, gateway: &str, uplink: &str, known: Option<u64>) -> Result<(), StoreError> {
        let update = "UPDATE uplink SET host_known = ? WHERE gateway = ? AND name = ?";
        sqlx::query(update).bind(known).bind(gateway).bind(uplink).execute(&self.pool).await?;
        Ok(())
    }
}
