use crate::{Store, StoreError, is_taken};
use interlex_core::description::Files;
use sqlx::Row;

/// A description about to be activated.
#[derive(Debug, Clone)]
pub struct NewRevision<'a> {
    /// The gateway it describes.
    pub gateway: &'a str,
    /// Who activates it.
    pub author: &'a str,
    /// When, in milliseconds since 1970 UTC.
    pub activated_at: i64,
    /// Why.
    pub note: &'a str,
    /// Its files.
    pub files: &'a Files,
}

/// An activated description without its files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RevisionSummary {
    /// The gateway it describes.
    pub gateway: String,
    /// Counts from 1 per gateway.
    pub number: u32,
    /// Who activated it.
    pub author: String,
    /// When, in milliseconds since 1970 UTC.
    pub activated_at: i64,
    /// Why.
    pub note: String,
}

/// An activated description.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revision {
    /// All but the files.
    pub summary: RevisionSummary,
    /// Its files.
    pub files: Files,
}

/// How often two activations at the same moment try for the next number.
const ATTEMPTS: u32 = 5;

impl Store {
    /// Stores a revision under the next number of its gateway, which it returns. It is the active one from now on.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_revision(&self, new: &NewRevision<'_>) -> Result<u32, StoreError> {
        let files = serde_json::to_string(new.files).map_err(|source| StoreError::Content { what: "files", source })?;
        for _ in 0..ATTEMPTS {
            let next = "SELECT CAST(COALESCE(MAX(number), 0) + 1 AS UNSIGNED) FROM revision WHERE gateway = ?";
            let number: u64 = sqlx::query_scalar(next).bind(new.gateway).fetch_one(&self.pool).await?;
            let insert =
                "INSERT INTO revision (gateway, number, author, activated_at, note, files) VALUES (?, ?, ?, ?, ?, ?)";
            let inserted = sqlx::query(insert)
                .bind(new.gateway)
                .bind(number)
                .bind(new.author)
                .bind(new.activated_at)
                .bind(new.note)
                .bind(&files)
                .execute(&self.pool)
                .await;
            match inserted {
                Err(error) if is_taken(&error) => {}
                Err(error) => return Err(error.into()),
                Ok(_) => return Ok(u32::try_from(number).unwrap_or(u32::MAX)),
            }
        }
        Err(StoreError::Exists(format!("the next revision of {}", new.gateway)))
    }

    /// The active revision of every gateway, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]
    pub async fn active_revisions(&self) -> Result<Vec<Revision>, StoreError> {
        let query = "SELECT gateway, number, author, activated_at, note, files FROM revision r WHERE number = \
                     (SELECT MAX(number) FROM revision WHERE gateway = r.gateway) ORDER BY gateway";
        let rows = sqlx::query(query).fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok(Revision { summary: summary(row)?, files: files(row)? })).collect()
    }

    /// All revisions of a gateway, the newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn revisions(&self, gateway: &str) -> Result<Vec<RevisionSummary>, StoreError> {
        let query =
            "SELECT gateway, number, author, activated_at, note FROM revision WHERE gateway = ? ORDER BY number DESC";
        let rows = sqlx::query(query).bind(gateway).fetch_all(&self.pool).await?;
        rows.iter().map(summary).collect()
    }
}

fn summary(row: &sqlx::mysql::MySqlRow) -> Result<RevisionSummary, StoreError> {
    Ok(RevisionSummary {
        gateway: row.try_get("gateway")?,
        number: row.try_get("number")?,
        author: row.try_get("author")?,
        activated_at: row.try_get("activated_at")?,
        note: row.try_get("note")?,
    })
}

fn files(row: &sqlx::mysql::MySqlRow) -> Result<Files, StoreError> {
    let text: String = row.try_get("files")?;
    serde_json::from_str(&text).map_err(|source| StoreError::Content { what: "the files of a revision", source })
}
