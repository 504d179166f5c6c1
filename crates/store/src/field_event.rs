use crate::{Store, StoreError};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};

/// A change that a device told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFieldEvent {
    /// The device.
    pub device: String,
    /// The point, where there is one.
    pub point: Option<String>,
    /// Where it lives, in the protocol's words.
    pub address: String,
    /// What it became, in words.
    pub state: String,
    /// Whether that is a number, and no state.
    pub is_number: bool,
    /// What the device says of it.
    pub flags: String,
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
    /// What that time is worth, by its number.
    pub time_quality: u8,
    /// When it arrived, in milliseconds since 1970 UTC.
    pub arrived: i64,
    /// What tells it from others of the same address.
    pub mark: u64,
}

/// A change as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldEventRecord {
    /// Its number: those with higher ones were told later.
    pub id: u64,
    /// What was told.
    pub event: NewFieldEvent,
}

/// Which changes to give.
#[derive(Debug, Clone, Default)]
pub struct FieldEventFilter {
    /// Not before, in milliseconds since 1970 UTC, by the time of the change.
    pub from: Option<i64>,
    /// Before, in milliseconds since 1970 UTC.
    pub to: Option<i64>,
    /// Only of this device.
    pub device: Option<String>,
    /// Only of this point, or of what has this address.
    pub point: Option<String>,
    /// Only states, and no numbers.
    pub only_states: bool,
    /// Only what comes behind this one in the order of the list: its time and its number.
    pub behind: Option<(i64, u64)>,
    /// So many at the most.
    pub limit: u32,
}

/// A text is kept as long as its column is.
fn cut(text: &str, most: usize) -> &str {
    text.char_indices().nth(most).map_or(text, |(end, _)| text.get(..end).unwrap_or_default())
}

fn record(row: &MySqlRow) -> Result<FieldEventRecord, StoreError> {
    let event = NewFieldEvent {
        device: row.try_get("device")?,
        point: row.try_get("point")?,
        address: row.try_get("address")?,
        state: row.try_get("state")?,
        is_number: row.try_get("is_number")?,
        flags: row.try_get("flags")?,
        at: row.try_get("at")?,
        time_quality: row.try_get("time_quality")?,
        arrived: row.try_get("arrived")?,
        mark: row.try_get("mark")?,
    };
    Ok(FieldEventRecord { id: row.try_get("id")?, event })
}

/// So many rows go into one statement.
const ROWS: usize = 500;

impl Store {
    /// Appends changes in the order in which they were told: all of them or none. They are on disk when this returns.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_field_events(
        &self,
        gateway: &str,
        source: &str,
        events: &[NewFieldEvent],
    ) -> Result<(), StoreError> {
        let work = async {
            let mut transaction = self.pool.begin().await?;
            for some in events.chunks(ROWS) {
                let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                    "INSERT INTO field_event (gateway, source, device, point, address, state, is_number, flags, at, \
                     time_quality, arrived, mark) ",
                );
                query.push_values(some, |mut row, event| {
                    row.push_bind(gateway)
                        .push_bind(cut(source, 512))
                        .push_bind(cut(&event.device, 64))
                        .push_bind(event.point.as_deref().map(|point| cut(point, 128)))
                        .push_bind(cut(&event.address, 64))
                        .push_bind(cut(&event.state, 512))
                        .push_bind(event.is_number)
                        .push_bind(cut(&event.flags, 128))
                        .push_bind(event.at)
                        .push_bind(event.time_quality)
                        .push_bind(event.arrived)
                        .push_bind(event.mark);
                });
                query.build().execute(&mut *transaction).await?;
            }
            Ok(transaction.commit().await?)
        };
        self.in_time(work).await
    }

    /// The last changes that a source told, in their order.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn last_field_events(
        &self,
        gateway: &str,
        source: &str,
        most: u32,
    ) -> Result<Vec<FieldEventRecord>, StoreError> {
        let query = "SELECT * FROM field_event WHERE gateway = ? AND source = ? ORDER BY id DESC LIMIT ?";
        let query = sqlx::query(query).bind(gateway).bind(cut(source, 512)).bind(most);
        let rows = self.in_time(async { Ok(query.fetch_all(&self.pool).await?) }).await?;
        rows.iter().rev().map(record).collect()
    }

    /// Changes of a gateway, the last one first by their own times; of one moment, the one first that was told last.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn field_events(
        &self,
        gateway: &str,
        filter: &FieldEventFilter,
    ) -> Result<Vec<FieldEventRecord>, StoreError> {
        // Only literals are put together here; whatever comes from outside is bound.
        let mut query = QueryBuilder::new("SELECT * FROM field_event WHERE gateway = ");
        query.push_bind(gateway);
        narrow(&mut query, filter);
        if let Some((at, id)) = filter.behind {
            query.push(" AND (at < ").push_bind(at).push(" OR at = ").push_bind(at);
            query.push(" AND id < ").push_bind(id).push(")");
        }
        query.push(" ORDER BY at DESC, id DESC LIMIT ").push_bind(filter.limit);
        query.build().fetch_all(&self.pool).await?.iter().map(record).collect()
    }

    /// Changes of a gateway that were told after one, in the order in which they were told.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn field_events_after(
        &self,
        gateway: &str,
        after: u64,
        filter: &FieldEventFilter,
    ) -> Result<Vec<FieldEventRecord>, StoreError> {
        let mut query = QueryBuilder::new("SELECT * FROM field_event WHERE gateway = ");
        query.push_bind(gateway).push(" AND id > ").push_bind(after);
        narrow(&mut query, filter);
        query.push(" ORDER BY id LIMIT ").push_bind(filter.limit);
        query.build().fetch_all(&self.pool).await?.iter().map(record).collect()
    }

    /// The number of the change that was told last; 0 where there is none.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn last_field_event(&self, gateway: &str) -> Result<u64, StoreError> {
        let query = "SELECT id FROM field_event WHERE gateway = ? ORDER BY id DESC LIMIT 1";
        Ok(sqlx::query_scalar(query).bind(gateway).fetch_optional(&self.pool).await?.unwrap_or(0))
    }

    /// Keeps the last `most` changes of states of a gateway that were told, and of numbers as many, and removes some of the others;
    /// tells how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn trim_field_events(&self, gateway: &str, most: u32) -> Result<u64, StoreError> {
        let oldest = "SELECT id FROM field_event WHERE gateway = ? AND is_number = ? ORDER BY id DESC LIMIT 1 OFFSET ?";
        let delete = "DELETE FROM field_event WHERE gateway = ? AND is_number = ? AND id <= ? ORDER BY id LIMIT 5000";
        let mut removed = 0;
        for is_number in [false, true] {
            let beyond = sqlx::query_scalar(oldest).bind(gateway).bind(is_number).bind(most);
            let beyond: Option<u64> = beyond.fetch_optional(&self.pool).await?;
            if let Some(beyond) = beyond {
                let delete = sqlx::query(delete).bind(gateway).bind(is_number).bind(beyond);
                removed += delete.execute(&self.pool).await?.rows_affected();
            }
        }
        Ok(removed)
    }
}

fn narrow(query: &mut QueryBuilder<MySql>, filter: &FieldEventFilter) {
    if filter.only_states {
        query.push(" AND is_number = 0");
    }
    if let Some(from) = filter.from {
        query.push(" AND at >= ").push_bind(from);
    }
    if let Some(to) = filter.to {
        query.push(" AND at < ").push_bind(to);
    }
    if let Some(device) = filter.device.clone() {
        query.push(" AND device = ").push_bind(device);
    }
    if let Some(point) = filter.point.clone() {
        query.push(" AND (point = ").push_bind(point.clone()).push(" OR address = ").push_bind(point).push(")");
    }
}
