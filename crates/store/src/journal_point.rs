use crate::{Store, StoreError};
use sqlx::{MySql, QueryBuilder, Row};

/// A point as journal blocks know it: by a number that never means another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JournalPoint {
    /// The number.
    pub number: u64,
    /// Its device.
    pub device: String,
    /// Its name.
    pub point: String,
    /// The type of its values, in the words of the description.
    pub data_type: String,
}

/// Rows of one statement: far below what a packet may have.
const ROWS: usize = 1000;

impl Store {
    /// The numbered points of a gateway with numbers above `after`, in their order.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn journal_points(&self, gateway: &str, after: u64) -> Result<Vec<JournalPoint>, StoreError> {
        let query =
            "SELECT number, device, point, type FROM journal_point WHERE gateway = ? AND number > ? ORDER BY number";
        let rows = sqlx::query(query).bind(gateway).bind(after).fetch_all(&self.pool).await?;
        let point = |row: sqlx::mysql::MySqlRow| {
            Ok(JournalPoint {
                number: row.try_get("number")?,
                device: row.try_get("device")?,
                point: row.try_get("point")?,
                data_type: row.try_get("type")?,
            })
        };
        rows.into_iter().map(point).collect()
    }

    /// Numbers points: device, point and type of each. Those that have a number keep it. It is on disk when this returns.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_journal_points(&self, gateway: &str, points: &[(&str, &str, String)]) -> Result<(), StoreError> {
        for part in points.chunks(ROWS) {
            // Another uplink of the gateway may number the same ones in the same moment.
            let mut insert: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT IGNORE INTO journal_point (gateway, device, point, type) ");
            insert.push_values(part, |mut row, (device, point, data_type)| {
                row.push_bind(gateway).push_bind(*device).push_bind(*point).push_bind(data_type);
            });
            insert.build().execute(&self.pool).await?;
        }
        Ok(())
    }
}
