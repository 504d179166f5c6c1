use crate::file::{self, PiecedFiles};
use crate::gateway::record;
use crate::{GatewayRecord, Store, StoreError};
use interlex_core::description::{Draft, ObjectClass, ObjectRef};
use serde_json::Value;
use sha2::{Digest, Sha256};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row, Transaction};
use std::collections::{BTreeMap, HashMap, HashSet};

/// One object of a draft.
#[derive(Debug, Clone, PartialEq)]
pub struct DraftObject {
    /// Which one.
    pub object: ObjectRef,
    /// What it holds.
    pub content: Value,
    /// Who changed it last; empty when nobody has since the draft began.
    pub changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    pub changed_at: i64,
}

/// What a draft has in the place of an object that it began with, or beside them.
#[derive(Debug, Clone, PartialEq)]
pub struct DraftEdit {
    /// Which object: by the name that the draft began with, or its own where it is new.
    pub object: ObjectRef,
    /// Whether the draft did not begin with it.
    pub is_new: bool,
    /// What it holds now, its name included; none when it is gone.
    pub content: Option<Value>,
    /// Who changed it last; empty when nobody has since the draft began.
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
    /// What the draft is without its edits.
    pub base: &'a Draft,
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
    /// The edits of a draft, in the order in which objects of them were first edited.
    ///
    /// # Errors
    /// [`StoreError::Database`], [`StoreError::Content`]
    pub async fn draft_edits(&self, gateway: &str) -> Result<Vec<DraftEdit>, StoreError> {
        let query = "SELECT * FROM draft_edit WHERE gateway = ? ORDER BY id";
        let rows = sqlx::query(query).bind(gateway).fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok(Kept::read(row)?.edit())).collect()
    }

    /// Carries out changes, all or none. Gives the new version of the gateway.
    ///
    /// # Errors
    /// [`EditError::Conflict`] when an object is not what the editor saw, [`EditError::Moved`] when the draft has begun anew.
    pub async fn edit_draft(&self, edit: &Edit<'_>, changes: &[DraftChange]) -> Result<u64, EditError> {
        let mut transaction = self.pool.begin().await?;
        let known = locked(&mut transaction, edit).await?;
        let began = |record: &GatewayRecord| (record.active, record.draft_files);
        if began(&known) != began(edit.gateway) || (!known.is_edited && known.version != edit.gateway.version) {
            return Err(EditError::Moved);
        }
        let mut kinds: BTreeMap<(ObjectClass, &str), Vec<&DraftChange>> = BTreeMap::new();
        for change in changes {
            kinds.entry((change.object.class, &change.object.list)).or_default().push(change);
        }
        for ((class, list), changes) in kinds {
            let mut kind = Kind::read(&mut transaction, edit, (class, list), &changes).await?;
            changes.into_iter().try_for_each(|change| kind.apply(edit, change))?;
            kind.write(&mut transaction, edit).await?;
        }
        Ok(finish(transaction, edit, known.draft_files).await?)
    }

    /// Lets the draft begin anew, with other files. Gives the new version of the gateway.
    ///
    /// # Errors
    /// [`EditError::Moved`] when the gateway is not what the editor saw.
    pub async fn replace_draft(&self, edit: &Edit<'_>, files: &PiecedFiles) -> Result<u64, EditError> {
        let mut transaction = self.pool.begin().await?;
        let known = locked(&mut transaction, edit).await?;
        if known.version != edit.gateway.version {
            return Err(EditError::Moved);
        }
        // No other draft of the gateway began with this version. Its files come before those of the last one go, whose pieces it shares.
        let number = i64::try_from(known.version).map_or(i64::MIN, |version| -version - 1);
        file::keep(&mut transaction, (&known.name, number), files).await?;
        clear_edits(&mut transaction, &known.name, Some(number)).await?;
        Ok(finish(transaction, edit, Some(number)).await?)
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
}

/// Makes a draft the same as the active revision.
pub(crate) async fn clear(
    transaction: &mut Transaction<'static, MySql>,
    gateway: &str,
    person: &str,
    at: i64,
) -> Result<(), sqlx::Error> {
    clear_edits(transaction, gateway, None).await?;
    let update = "UPDATE gateway SET is_edited = FALSE, draft_files = NULL, version = version + 1, changed_by = ?, \
                  changed_at = ? WHERE name = ?";
    sqlx::query(update).bind(person).bind(at).bind(gateway).execute(&mut **transaction).await?;
    Ok(())
}

/// Drops what a draft was edited to, and what drafts before the one with these files began with.
pub(crate) async fn clear_edits(
    transaction: &mut Transaction<'static, MySql>,
    gateway: &str,
    files: Option<i64>,
) -> Result<(), sqlx::Error> {
    sqlx::query("DELETE FROM draft_edit WHERE gateway = ?").bind(gateway).execute(&mut **transaction).await?;
    file::drop_of_drafts(transaction, gateway, files).await
}

async fn locked(transaction: &mut Transaction<'static, MySql>, edit: &Edit<'_>) -> Result<GatewayRecord, EditError> {
    let query = "SELECT * FROM gateway WHERE name = ? AND NOT is_removed FOR UPDATE";
    let row = sqlx::query(query).bind(&edit.gateway.name).fetch_optional(&mut **transaction).await?;
    Ok(record(&row.ok_or(EditError::Moved)?)?)
}

async fn finish(
    mut transaction: Transaction<'static, MySql>,
    edit: &Edit<'_>,
    files: Option<i64>,
) -> Result<u64, StoreError> {
    let update = "UPDATE gateway SET is_edited = TRUE, draft_files = ?, version = version + 1, changed_by = ?, \
                  changed_at = ? WHERE name = ?";
    let (person, name) = (edit.person, &edit.gateway.name);
    sqlx::query(update).bind(files).bind(person).bind(edit.at).bind(name).execute(&mut *transaction).await?;
    let query = "SELECT version FROM gateway WHERE name = ?";
    let version = sqlx::query_scalar(query).bind(name).fetch_one(&mut *transaction).await?;
    transaction.commit().await?;
    Ok(version)
}

/// A row of edits, as it is kept.
#[derive(Debug, Clone)]
struct Kept {
    /// None before it is written for the first time.
    id: Option<u64>,
    class: ObjectClass,
    list: String,
    name: Option<String>,
    base: Option<String>,
    content: Option<Value>,
    changed_by: String,
    changed_at: i64,
    is_changed: bool,
}

impl Kept {
    fn read(row: &MySqlRow) -> Result<Self, StoreError> {
        let (class, content): (String, Option<String>) = (row.try_get("class")?, row.try_get("content")?);
        let class = ObjectClass::from_word(&class)
            .ok_or_else(|| StoreError::Database(sqlx::Error::Protocol(format!("there is no class {class:?}"))))?;
        let content = content.map(|text| serde_json::from_str(&text)).transpose();
        Ok(Self {
            id: row.try_get("id")?,
            class,
            list: row.try_get("list")?,
            name: row.try_get("name")?,
            base: row.try_get("base")?,
            content: content.map_err(|source| StoreError::Content { what: "an object of a draft", source })?,
            changed_by: row.try_get("changed_by")?,
            changed_at: row.try_get("changed_at")?,
            is_changed: false,
        })
    }

    fn edit(self) -> DraftEdit {
        let is_new = self.base.is_none();
        let name = self.base.or(self.name).unwrap_or_default();
        let object = ObjectRef { class: self.class, list: self.list, name };
        DraftEdit { object, is_new, content: self.content, changed_by: self.changed_by, changed_at: self.changed_at }
    }
}

/// The edits of one kind of objects, or of one list, while some more are made.
struct Kind<'a> {
    class: ObjectClass,
    list: &'a str,
    rows: Vec<Kept>,
    /// The places of rows by the names that objects have now, and by those that the draft began with.
    named: HashMap<String, usize>,
    based: HashMap<String, usize>,
    /// What the draft began with, by name.
    base: HashMap<String, Value>,
}

impl<'a> Kind<'a> {
    async fn read(
        transaction: &mut Transaction<'static, MySql>,
        edit: &Edit<'a>,
        (class, list): (ObjectClass, &'a str),
        changes: &[&'a DraftChange],
    ) -> Result<Self, StoreError> {
        let query = "SELECT * FROM draft_edit WHERE gateway = ? AND class = ? AND list = ? ORDER BY id";
        let query = sqlx::query(query).bind(&edit.gateway.name).bind(class.word()).bind(list);
        let rows = query.fetch_all(&mut **transaction).await?;
        let rows = rows.iter().map(Kept::read).collect::<Result<Vec<_>, _>>()?;
        let places = |of: fn(&Kept) -> Option<&String>| {
            rows.iter().enumerate().filter_map(|(at, row)| Some((of(row)?.clone(), at))).collect()
        };
        let (named, based) = (places(|row| row.name.as_ref()), places(|row| row.base.as_ref()));
        // Of what may be very many objects, those that the changes are about.
        let new = |change: &&'a DraftChange| change.content.as_ref()?.get("name")?.as_str();
        let wanted: HashSet<&str> =
            changes.iter().flat_map(|change| [Some(change.object.name.as_str()), new(change)]).flatten().collect();
        let lists = (class == ObjectClass::Point).then_some(list);
        let base =
            edit.base.objects_in(lists).filter(|(object, _)| object.class == class && wanted.contains(&*object.name));
        let base = base.map(|(object, content)| (object.name, content.into_value())).collect();
        Ok(Self { class, list, rows, named, based, base })
    }

    /// What an object is now: its row of edits, if it has one, and its content; none where there is no such object.
    fn current(&self, name: &str) -> Option<(Option<usize>, &Value)> {
        if let Some(at) = self.named.get(name) {
            return Some((Some(*at), self.rows.get(*at)?.content.as_ref()?));
        }
        // What the draft began with under this name has another one now, or is gone.
        let content = self.base.get(name).filter(|_| !self.based.contains_key(name))?;
        Some((None, content))
    }

    fn conflict(&self, name: &str) -> EditError {
        let object = ObjectRef { class: self.class, list: self.list.to_owned(), name: name.to_owned() };
        let current = self.current(name).map(|(row, content)| {
            let row = row.and_then(|at| self.rows.get(at));
            let (by, at) = row.map(|row| (row.changed_by.clone(), row.changed_at)).unwrap_or_default();
            DraftObject { object: object.clone(), content: content.clone(), changed_by: by, changed_at: at }
        });
        EditError::Conflict(Box::new(Conflict { object, current }))
    }

    fn apply(&mut self, edit: &Edit<'_>, change: &DraftChange) -> Result<(), EditError> {
        let old = change.object.name.as_str();
        let current = self.current(old);
        if current.map(|(_, content)| version_of(content)) != change.base {
            return Err(self.conflict(old));
        }
        let known = current.map(|(row, _)| row);
        let new = change.content.as_ref().map(|content| content.get("name").and_then(Value::as_str).unwrap_or(old));
        if let Some(new) = new.filter(|new| known.is_none() || *new != old).filter(|new| self.current(new).is_some()) {
            return Err(self.conflict(new));
        }
        let at = match known {
            Some(Some(at)) => at,
            None if new.is_none() => return Ok(()),
            known => {
                // It stands in the place of what the draft began with, or is new.
                let base = known.map(|_| old.to_owned());
                self.based.extend(base.clone().map(|base| (base, self.rows.len())));
                self.rows.push(Kept {
                    id: None,
                    class: self.class,
                    list: self.list.to_owned(),
                    name: None,
                    base,
                    content: None,
                    changed_by: String::new(),
                    changed_at: 0,
                    is_changed: true,
                });
                self.rows.len() - 1
            }
        };
        self.named.remove(old);
        if let Some(row) = self.rows.get_mut(at) {
            (row.name, row.content) = (new.map(str::to_owned), change.content.clone());
            (row.changed_by, row.changed_at, row.is_changed) = (edit.person.to_owned(), edit.at, true);
            self.named.extend(row.name.clone().map(|name| (name, at)));
        }
        Ok(())
    }

    /// Many rows a statement: all that is put in is bound.
    async fn write(self, transaction: &mut Transaction<'static, MySql>, edit: &Edit<'_>) -> Result<(), StoreError> {
        let changed: Vec<_> = self.rows.into_iter().filter(|row| row.is_changed).collect();
        let ids: Vec<_> = changed.iter().filter_map(|row| row.id).collect();
        for part in ids.chunks(ROWS) {
            let mut delete = QueryBuilder::new("DELETE FROM draft_edit WHERE id IN (");
            let mut list = delete.separated(", ");
            part.iter().for_each(|id| _ = list.push_bind(id));
            delete.push(")");
            delete.build().execute(&mut **transaction).await?;
        }
        // What was new and is gone leaves nothing behind.
        let stays: Vec<_> = changed.iter().filter(|row| row.name.is_some() || row.base.is_some()).collect();
        for part in stays.chunks(ROWS) {
            let head =
                "INSERT INTO draft_edit (id, gateway, class, list, name, base, content, changed_by, changed_at) ";
            let mut insert = QueryBuilder::new(head);
            insert.push_values(part, |mut values, row| {
                values.push_bind(row.id).push_bind(&edit.gateway.name).push_bind(row.class.word());
                values.push_bind(&row.list).push_bind(&row.name).push_bind(&row.base);
                values.push_bind(row.content.as_ref().map(Value::to_string));
                values.push_bind(&row.changed_by).push_bind(row.changed_at);
            });
            insert.build().execute(&mut **transaction).await?;
        }
        Ok(())
    }
}
