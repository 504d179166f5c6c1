use crate::draft::clear;
use crate::file::{self, PieceDigest, PiecedFiles};
use crate::{EditError, Store, StoreError};
use interlex_core::description::Files;
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use std::collections::BTreeMap;

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
    pub files: &'a PiecedFiles,
    /// The version of the gateway that whoever activates has seen; none to activate whatever it is.
    pub version: Option<u64>,
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
    /// What they are made of.
    pub pieces: BTreeMap<String, Vec<PieceDigest>>,
}

impl Store {
    /// Stores a revision under the next number of its gateway, which it returns. In the same step it becomes the
    /// active one, and the draft the same as it.
    ///
    /// # Errors
    /// [`EditError::Moved`] when the gateway is not of the version that was seen.
    pub async fn add_revision(&self, new: &NewRevision<'_>) -> Result<u32, EditError> {
        self.know_gateway(new.gateway).await?;
        let mut transaction = self.pool.begin().await?;
        let lock = "SELECT version FROM gateway WHERE name = ? FOR UPDATE";
        let version: u64 = sqlx::query_scalar(lock).bind(new.gateway).fetch_one(&mut *transaction).await?;
        if new.version.is_some_and(|seen| seen != version) {
            return Err(EditError::Moved);
        }
        let next = "SELECT CAST(COALESCE(MAX(number), 0) + 1 AS UNSIGNED) FROM revision WHERE gateway = ?";
        let number: u64 = sqlx::query_scalar(next).bind(new.gateway).fetch_one(&mut *transaction).await?;
        let insert =
            "INSERT INTO revision (gateway, number, author, activated_at, note, files) VALUES (?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(insert).bind(new.gateway).bind(number).bind(new.author).bind(new.activated_at);
        query.bind(new.note).bind("").execute(&mut *transaction).await?;
        let number = u32::try_from(number).unwrap_or(u32::MAX);
        file::keep(&mut transaction, (new.gateway, i64::from(number)), new.files).await?;
        let activate = "UPDATE gateway SET active = ?, is_removed = FALSE WHERE name = ?";
        sqlx::query(activate).bind(number).bind(new.gateway).execute(&mut *transaction).await?;
        clear(&mut transaction, new.gateway, new.author, new.activated_at).await?;
        transaction.commit().await?;
        Ok(number)
    }

    /// The active revision of every gateway, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]
    pub async fn active_revisions(&self) -> Result<Vec<Revision>, StoreError> {
        let query = "SELECT r.* FROM revision r JOIN gateway g ON g.name = r.gateway AND g.active = r.number \
                     WHERE NOT g.is_removed ORDER BY r.gateway";
        let rows = sqlx::query(query).fetch_all(&self.pool).await?;
        let mut revisions = Vec::with_capacity(rows.len());
        for row in &rows {
            revisions.push(self.whole(row).await?);
        }
        Ok(revisions)
    }

    /// One revision.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]
    pub async fn revision(&self, gateway: &str, number: u32) -> Result<Option<Revision>, StoreError> {
        let query = "SELECT * FROM revision WHERE gateway = ? AND number = ?";
        let row = sqlx::query(query).bind(gateway).bind(number).fetch_optional(&self.pool).await?;
        match row {
            Some(row) => self.whole(&row).await.map(Some),
            None => Ok(None),
        }
    }

    async fn whole(&self, row: &MySqlRow) -> Result<Revision, StoreError> {
        let (summary, text) = (summary(row)?, row.try_get::<String, _>("files")?);
        if text.is_empty() {
            let (files, pieces) = self.files(&summary.gateway, i64::from(summary.number)).await?;
            return Ok(Revision { summary, files, pieces });
        }
        // One of before.
        let files = serde_json::from_str(&text);
        let files = files.map_err(|source| StoreError::Content { what: "the files of a revision", source })?;
        Ok(Revision { summary, files, pieces: BTreeMap::new() })
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

fn summary(row: &MySqlRow) -> Result<RevisionSummary, StoreError> {
    Ok(RevisionSummary {
        gateway: row.try_get("gateway")?,
        number: row.try_get("number")?,
        author: row.try_get("author")?,
        activated_at: row.try_get("activated_at")?,
        note: row.try_get("note")?,
    })
}
