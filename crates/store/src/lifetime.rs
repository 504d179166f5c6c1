use crate::{Store, StoreError};
use sqlx::Row;

/// A commanded value that holds until a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommandLifetime {
    /// The device.
    pub device: String,
    /// Its point.
    pub point: String,
    /// When the safe value is due, in milliseconds since 1970 UTC.
    pub due_at: i64,
    /// What was commanded, in words; none where it is not known.
    pub commanded: Option<String>,
}

impl Store {
    /// The commanded values of a gateway that hold for a while.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn command_lifetimes(&self, gateway: &str) -> Result<Vec<CommandLifetime>, StoreError> {
        let query = "SELECT device, point, due_at, commanded FROM command_lifetime WHERE gateway = ?";
        let rows = self.in_time(async { Ok(sqlx::query(query).bind(gateway).fetch_all(&self.pool).await?) }).await?;
        let lifetime = |row: sqlx::mysql::MySqlRow| {
            let (device, point) = (row.try_get("device")?, row.try_get("point")?);
            let (due_at, commanded) = (row.try_get("due_at")?, row.try_get("commanded")?);
            Ok(CommandLifetime { device, point, due_at, commanded })
        };
        rows.into_iter().map(lifetime).collect()
    }

    /// Keeps until when a commanded value holds, in place of what was kept of its point; or forgets it.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_command_lifetime(
        &self,
        gateway: &str,
        (device, point): (&str, &str),
        due: Option<(i64, Option<&str>)>,
    ) -> Result<(), StoreError> {
        let query = match due {
            Some((due_at, commanded)) => sqlx::query(
                "INSERT INTO command_lifetime (gateway, device, point, due_at, commanded) VALUES (?, ?, ?, ?, ?) \
                 ON DUPLICATE KEY UPDATE due_at = VALUES(due_at), commanded = VALUES(commanded)",
            )
            .bind(gateway)
            .bind(device)
            .bind(point)
            .bind(due_at)
            .bind(commanded),
            None => sqlx::query("DELETE FROM command_lifetime WHERE gateway = ? AND device = ? AND point = ?")
                .bind(gateway)
                .bind(device)
                .bind(point),
        };
        let work = async {
            query.execute(&self.pool).await?;
            Ok(())
        };
        self.in_time(work).await
    }
}
