use crate::gateway::record;
use crate::{GatewayRecord, Store, StoreError};
use interlex_core::description::{Draft, ObjectClass, ObjectRef};
use serde_json::Value;
use sha2::{Digest, Sha256};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row, Transaction};
use std::collections::BTreeMap;

/// One object of a draft, as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct DraftObject {
    /// Which one.
    pub object: ObjectRef,
    /// What it holds.
    pub content: Value,
    /// Who changed it last; empty when it is as in the revision.
    pub changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    pub changed_at: i64,
}

/// One change of a draft.
#[derive(Debug, Clone, PartialEq)]
pub struct DraftChange {
    /// Which object; for a new one, the name that it will have.
    pub object: ObjectRef,
    /// The version that the editor saw; none for an object that is new.
    pub base: Option<String>,
    /// What it becomes; none takes it away. Its `name` may be another one.
    pub content: Option<Value>,
}

/// Who edits, when, and on what.
#[derive(Debug, Clone, Copy)]
pub struct Edit<'a> {
    /// The gateway as the editor saw it.
    pub gateway: &'a GatewayRecord,
    /// What the draft is while it has no objects of its own.
    pub seed: &'a Draft,
    /// Who.
    pub person: &'a str,
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
}

/// Why a draft was not edited.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// Somebody else has changed the object since it was looked at.
    #[error("{} has been changed meanwhile", .0.object)]
    Conflict(Box<Conflict>),
    /// The revision under the draft is another one now: look again.
    #[error("the gateway has been changed meanwhile")]
    Moved,
    /// The database did not do it.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// An edit that came too late.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflict {
    /// Which object.
    pub object: ObjectRef,
    /// What it is now; none when it is gone.
    pub current: Option<DraftObject>,
}

impl From<sqlx::Error> for EditError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// The version of a content: two contents have the same one only when they are the same, in whatever order their keys
/// stand.
#[must_use]
pub fn version_of(content: &Value) -> String {
    let sorted: BTreeMap<&String, &Value> = content.as_object().into_iter().flatten().collect();
    let text = sorted.iter().fold(String::new(), |text, (key, value)| format!("{text}{key:?}:{value},"));
    let digest = Sha256::digest(text.as_bytes());
    hex::encode(digest.get(..8).unwrap_or_default())
}

/// Rows a statement: far below the 65,535 values that one may bind.
const ROWS: usize = 2000;

impl Store {
    /// The objects of an edited draft, in their order; none when it is not edited.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]
    pub async fn draft_objects(&self, gateway: &str) -> Result<Vec<DraftObject>, StoreError> {
        let query = "SELECT class, list, name, content, changed_by, changed_at FROM draft_object WHERE gateway = ? \
                     ORDER BY position";
        let rows = sqlx::query(query).bind(gateway).fetch_all(&self.pool).await?;
        rows.iter().map(object).collect()
    }

    /// Carries out changes, all or none. Gives the new version of the gateway.
    ///
    /// # Errors
    /// [`EditError::Conflict`] when an object is not what the editor saw.
    pub async fn edit_draft(&self, edit: &Edit<'_>, changes: &[DraftChange]) -> Result<u64, EditError> {
        let mut transaction = self.begin_edit(edit).await?;
        for change in changes {
            apply(&mut transaction, edit, change).await?;
        }
        Ok(finish(transaction, edit).await?)
    }

    /// Puts another draft in the place of the whole one. Gives the new version of the gateway.
    ///
    /// # Errors
    /// [`EditError::Moved`] when the gateway is not what the editor saw.
    pub async fn replace_draft(&self, edit: &Edit<'_>, draft: &Draft) -> Result<u64, EditError> {
        let mut transaction = self.pool.begin().await?;
        if locked(&mut transaction, edit).await?.version != edit.gateway.version {
            return Err(EditError::Moved);
        }
        let delete = "DELETE FROM draft_object WHERE gateway = ?";
        sqlx::query(delete).bind(&edit.gateway.name).execute(&mut *transaction).await?;
        insert_all(&mut transaction, &edit.gateway.name, draft, edit.person, edit.at).await?;
        Ok(finish(transaction, edit).await?)
    }

    /// Throws the edits of a draft away: it is the active revision again.
    ///
    /// # Errors
    /// [`EditError::Moved`] when the gateway is not what the editor saw.
    pub async fn discard_draft(&self, edit: &Edit<'_>) -> Result<u64, EditError> {
        let mut transaction = self.pool.begin().await?;
        if locked(&mut transaction, edit).await?.version != edit.gateway.version {
            return Err(EditError::Moved);
        }
        let version = edit.gateway.version + 1;
        clear(&mut transaction, &edit.gateway.name, edit.person, edit.at).await?;
        transaction.commit().await?;
        Ok(version)
    }

    /// Locks the gateway, and gives the draft objects of its own if it has none yet.
    async fn begin_edit(&self, edit: &Edit<'_>) -> Result<Transaction<'static, MySql>, EditError> {
        let mut transaction = self.pool.begin().await?;
        let known = locked(&mut transaction, edit).await?;
        if !known.is_edited {
            if known.version != edit.gateway.version {
                return Err(EditError::Moved);
            }
            insert_all(&mut transaction, &known.name, edit.seed, "", 0).await?;
        }
        Ok(transaction)
    }
}

/// Makes a draft the same as the active revision.
pub(crate) async fn clear(
    transaction: &mut Transaction<'static, MySql>,
    gateway: &str,
    person: &str,
    at: i64,
) -> Result<(), sqlx::Error> {
    sqlx::query("DELETE FROM draft_object WHERE gateway = ?").bind(gateway).execute(&mut **transaction).await?;
    let update =
        "UPDATE gateway SET is_edited = FALSE, version = version + 1, changed_by = ?, changed_at = ? WHERE name = ?";
    sqlx::query(update).bind(person).bind(at).bind(gateway).execute(&mut **transaction).await?;
    Ok(())
}

async fn locked(transaction: &mut Transaction<'static, MySql>, edit: &Edit<'_>) -> Result<GatewayRecord, EditError> {
    let query = "SELECT * FROM gateway WHERE name = ? AND NOT is_removed FOR UPDATE";
    let row = sqlx::query(query).bind(&edit.gateway.name).fetch_optional(&mut **transaction).await?;
    Ok(record(&row.ok_or(EditError::Moved)?)?)
}

async fn finish(mut transaction: Transaction<'static, MySql>, edit: &Edit<'_>) -> Result<u64, StoreError> {
    let update =
        "UPDATE gateway SET is_edited = TRUE, version = version + 1, changed_by = ?, changed_at = ? WHERE name = ?";
    let (person, name) = (edit.person, &edit.gateway.name);
    sqlx::query(update).bind(person).bind(edit.at).bind(name).execute(&mut *transaction).await?;
    let query = "SELECT version FROM gateway WHERE name = ?";
    let version = sqlx::query_scalar(query).bind(name).fetch_one(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(version)
}

async fn apply(
    transaction: &mut Transaction<'static, MySql>,
    edit: &Edit<'_>,
    change: &DraftChange,
) -> Result<(), EditError> {
    let (gateway, object) = (&edit.gateway.name, &change.object);
    let current = find(transaction, gateway, object).await?;
    let version = current.as_ref().map(|current| version_of(&current.content));
    if version != change.base {
        return Err(EditError::Conflict(Box::new(Conflict { object: object.clone(), current })));
    }
    let Some(content) = &change.content else {
        let delete = "DELETE FROM draft_object WHERE gateway = ? AND class = ? AND list = ? AND name = ?";
        let query = sqlx::query(delete).bind(gateway).bind(object.class.word()).bind(&object.list).bind(&object.name);
        query.execute(&mut **transaction).await?;
        return Ok(());
    };
    let name = content.get("name").and_then(Value::as_str).unwrap_or(&object.name);
    if current.is_none() || name != object.name {
        let new = ObjectRef { name: name.to_owned(), ..object.clone() };
        if let Some(taken) = find(transaction, gateway, &new).await? {
            return Err(EditError::Conflict(Box::new(Conflict { object: new, current: Some(taken) })));
        }
    }
    if current.is_some() {
        let update = "UPDATE draft_object SET name = ?, content = ?, changed_by = ?, changed_at = ? \
                      WHERE gateway = ? AND class = ? AND list = ? AND name = ?";
        let query = sqlx::query(update).bind(name).bind(content.to_string()).bind(edit.person).bind(edit.at);
        let query = query.bind(gateway).bind(object.class.word()).bind(&object.list).bind(&object.name);
        query.execute(&mut **transaction).await?;
    } else {
        let insert = "INSERT INTO draft_object (gateway, class, list, name, position, content, changed_by, changed_at) \
                      SELECT ?, ?, ?, ?, COALESCE(MAX(position) + 1, 0), ?, ?, ? FROM draft_object WHERE gateway = ?";
        let query = sqlx::query(insert).bind(gateway).bind(object.class.word()).bind(&object.list).bind(name);
        let query = query.bind(content.to_string()).bind(edit.person).bind(edit.at).bind(gateway);
        query.execute(&mut **transaction).await?;
    }
    Ok(())
}

async fn find(
    transaction: &mut Transaction<'static, MySql>,
    gateway: &str,
    wanted: &ObjectRef,
) -> Result<Option<DraftObject>, StoreError> {
    let query = "SELECT class, list, name, content, changed_by, changed_at FROM draft_object \
                 WHERE gateway = ? AND class = ? AND list = ? AND name = ?";
    let query = sqlx::query(query).bind(gateway).bind(wanted.class.word()).bind(&wanted.list).bind(&wanted.name);
    query.fetch_optional(&mut **transaction).await?.as_ref().map(object).transpose()
}

/// Many rows a statement: the one place where SQL is put together, and all that is put in is bound.
async fn insert_all(
    transaction: &mut Transaction<'static, MySql>,
    gateway: &str,
    draft: &Draft,
    person: &str,
    at: i64,
) -> Result<(), StoreError> {
    let objects: Vec<_> = (0_u32..).zip(draft.objects()).collect();
    for part in objects.chunks(ROWS) {
        let head = "INSERT INTO draft_object (gateway, class, list, name, position, content, changed_by, changed_at) ";
        let mut insert = QueryBuilder::new(head);
        insert.push_values(part, |mut row, (position, (object, content))| {
            row.push_bind(gateway).push_bind(object.class.word()).push_bind(&object.list).push_bind(&object.name);
            row.push_bind(position).push_bind(content.to_string()).push_bind(person).push_bind(at);
        });
        insert.build().execute(&mut **transaction).await?;
    }
    Ok(())
}

fn object(row: &MySqlRow) -> Result<DraftObject, StoreError> {
    let (class, content): (String, String) = (row.try_get("class")?, row.try_get("content")?);
    let class = ObjectClass::from_word(&class)
        .ok_or_else(|| StoreError::Database(sqlx::Error::Protocol(format!("there is no class {class:?}"))))?;
    Ok(DraftObject {
        object: ObjectRef { class, list: row.try_get("list")?, name: row.try_get("name")? },
        content: serde_json::from_str(&content)
            .map_err(|source| StoreError::Content { what: "an object of a draft", source })?,
        changed_by: row.try_get("changed_by")?,
        changed_at: row.try_get("changed_at")?,
    })
}
