use crate::{Store, StoreError};
use sqlx::Row;
use sqlx::mysql::MySqlRow;

/// Points that somebody compares with what their devices show, one by one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoopCheck {
    /// Its number; 0 for one that is not kept yet.
    pub id: u64,
    /// The gateway.
    pub gateway: String,
    /// What people call it.
    pub title: String,
    /// The revision that it was begun on.
    pub revision: u32,
    /// The points as they were described then, as JSON, in their order.
    pub points: String,
    /// Who began it.
    pub started_by: String,
    /// When, in milliseconds since 1970 UTC.
    pub started_at: i64,
    /// Who closed it, and when; none while it is open.
    pub closed: Option<(String, i64)>,
}

/// What was found of a point.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoopCheckItem {
    /// The device.
    pub device: String,
    /// The point.
    pub point: String,
    /// The result in a word: agrees, differs, skipped.
    pub result: String,
    /// What its display showed, as it was typed; empty where somebody only said that it agrees.
    pub expected: String,
    /// What the gateway said then, with its unit.
    pub said: String,
    /// The raw value.
    pub raw: String,
    /// The quality, with its reason.
    pub quality: String,
    /// What else somebody wrote down.
    pub note: String,
    /// Who.
    pub person: String,
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
}

fn check(row: &MySqlRow) -> Result<LoopCheck, StoreError> {
    let closed_by: Option<String> = row.try_get("closed_by")?;
    let closed_at: Option<i64> = row.try_get("closed_at")?;
    Ok(LoopCheck {
        id: row.try_get("id")?,
        gateway: row.try_get("gateway")?,
        title: row.try_get("title")?,
        revision: row.try_get("revision")?,
        points: row.try_get("points")?,
        started_by: row.try_get("started_by")?,
        started_at: row.try_get("started_at")?,
        closed: closed_by.zip(closed_at),
    })
}

fn item(row: &MySqlRow) -> Result<LoopCheckItem, StoreError> {
    Ok(LoopCheckItem {
        device: row.try_get("device")?,
        point: row.try_get("point")?,
        result: row.try_get("result")?,
        expected: row.try_get("expected")?,
        said: row.try_get("said")?,
        raw: row.try_get("raw")?,
        quality: row.try_get("quality")?,
        note: row.try_get("note")?,
        person: row.try_get("person")?,
        at: row.try_get("at")?,
    })
}

fn cut(text: &str, most: usize) -> String {
    text.chars().take(most).collect()
}

impl Store {
    /// Begins a loop check; gives its number.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::TooLarge`]
    pub async fn add_loop_check(&self, new: &LoopCheck) -> Result<u64, StoreError> {
        self.fits(new.points.len()).await?;
        let insert = "INSERT INTO loop_check (gateway, title, revision, points, started_by, started_at) VALUES (?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(insert).bind(&new.gateway).bind(cut(&new.title, 200)).bind(new.revision);
        let query = query.bind(&new.points).bind(&new.started_by).bind(new.started_at);
        Ok(query.execute(&self.pool).await?.last_insert_id())
    }

    /// The loop checks of a gateway, the last one first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn loop_checks(&self, gateway: &str) -> Result<Vec<LoopCheck>, StoreError> {
        let query = "SELECT * FROM loop_check WHERE gateway = ? ORDER BY id DESC LIMIT 200";
        sqlx::query(query).bind(gateway).fetch_all(&self.pool).await?.iter().map(check).collect()
    }

    /// A loop check.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn loop_check(&self, gateway: &str, id: u64) -> Result<Option<LoopCheck>, StoreError> {
        let query = sqlx::query("SELECT * FROM loop_check WHERE gateway = ? AND id = ?").bind(gateway).bind(id);
        query.fetch_optional(&self.pool).await?.as_ref().map(check).transpose()
    }

    /// What was found of the points of a loop check.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn loop_check_items(&self, id: u64) -> Result<Vec<LoopCheckItem>, StoreError> {
        let query = sqlx::query("SELECT * FROM loop_check_item WHERE loop_check = ?").bind(id);
        query.fetch_all(&self.pool).await?.iter().map(item).collect()
    }

    /// Keeps what was found of a point, in the place of what was found before; `false` where the loop check is closed.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn keep_loop_check_item(&self, id: u64, found: &LoopCheckItem) -> Result<bool, StoreError> {
        let insert = "INSERT INTO loop_check_item (loop_check, device, point, result, expected, said, raw, quality, note, person, at) \
                      SELECT id, ?, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM loop_check WHERE id = ? AND closed_at IS NULL \
                      ON DUPLICATE KEY UPDATE result = VALUES(result), expected = VALUES(expected), said = VALUES(said), \
                      raw = VALUES(raw), quality = VALUES(quality), note = VALUES(note), person = VALUES(person), at = VALUES(at)";
        let query = sqlx::query(insert).bind(&found.device).bind(&found.point).bind(&found.result);
        let query = query.bind(cut(&found.expected, 200)).bind(cut(&found.said, 200)).bind(cut(&found.raw, 200));
        let query = query.bind(cut(&found.quality, 200)).bind(cut(&found.note, 500)).bind(&found.person).bind(found.at);
        Ok(query.bind(id).execute(&self.pool).await?.rows_affected() > 0)
    }

    /// Closes a loop check; `false` where it is closed already.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn close_loop_check(&self, id: u64, person: &str, at: i64) -> Result<bool, StoreError> {
        let update = "UPDATE loop_check SET closed_by = ?, closed_at = ? WHERE id = ? AND closed_at IS NULL";
        let query = sqlx::query(update).bind(person).bind(at).bind(id);
        Ok(query.execute(&self.pool).await?.rows_affected() > 0)
    }
}
