use crate::{Store, StoreError};

impl Store {
    /// What the field side of a gateway remembers of a place.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn field_memory(&self, gateway: &str, place: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let query = "SELECT content FROM field_memory WHERE gateway = ? AND place = ?";
        Ok(sqlx::query_scalar(query).bind(gateway).bind(place).fetch_optional(&self.pool).await?)
    }

    /// Keeps it, in the place of what was remembered before.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_field_memory(&self, gateway: &str, place: &str, content: &[u8]) -> Result<(), StoreError> {
        let upsert = "INSERT INTO field_memory (gateway, place, content) VALUES (?, ?, ?) \
                      ON DUPLICATE KEY UPDATE content = VALUES(content)";
        sqlx::query(upsert).bind(gateway).bind(place).bind(content).execute(&self.pool).await?;
        Ok(())
    }
}
