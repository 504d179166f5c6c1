use crate::{Store, StoreError};
use sqlx::{QueryBuilder, Row};

/// Something that somebody did.
#[derive(Debug, Clone, Default)]
pub struct AuditEntry<'a> {
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Who; a name that was tried, for failed sign-ins.
    pub person: &'a str,
    /// From where: an address.
    pub source: &'a str,
    /// What, as a word: `sign-in`, `sign-in-failed`, `activate`, …
    pub action: &'a str,
    /// What exactly.
    pub detail: &'a str,
    /// The gateway that it is about; empty when it is about none.
    pub gateway: &'a str,
    /// The object that it is about, in words; empty when it is about none.
    pub object: &'a str,
    /// What the object was, as JSON, secrets left out.
    pub before: Option<String>,
    /// What it became.
    pub after: Option<String>,
}

/// An entry of the audit trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditRecord {
    /// Its number: entries with higher ones came later.
    pub id: u64,
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Who.
    pub person: String,
    /// From where.
    pub source: String,
    /// What, as a word.
    pub action: String,
    /// What exactly.
    pub detail: String,
    /// The gateway, or empty.
    pub gateway: String,
    /// The object, or empty.
    pub object: String,
    /// What the object was, as JSON.
    pub before: Option<String>,
    /// What it became, as JSON.
    pub after: Option<String>,
}

/// Which entries to give.
#[derive(Debug, Clone, Default)]
pub struct AuditFilter {
    /// Not before, in milliseconds since 1970 UTC.
    pub from: Option<i64>,
    /// Before, in milliseconds since 1970 UTC.
    pub to: Option<i64>,
    /// Only of this person.
    pub person: Option<String>,
    /// Only this action.
    pub action: Option<String>,
    /// Only about this gateway.
    pub gateway: Option<String>,
    /// Only with this text in detail or object.
    pub text: Option<String>,
    /// Only entries with lower numbers, to go on where a page ended.
    pub below: Option<u64>,
    /// So many at the most.
    pub limit: u32,
}

/// What is told of one entry at the most: a page of detail, and contents that a person can still look through. The whole of
/// an activation is in its revision.
const DETAIL: usize = 10_000;
const CONTENT: usize = 1 << 20;

/// The beginning of a text, with a word on what is missing. No entry is lost for its length.
fn cut(text: &str, most: usize) -> String {
    if text.len() <= most {
        return text.to_owned();
    }
    let missing = format!(" … ({} bytes in all)", text.len());
    let mut end = most.saturating_sub(missing.len());
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let beginning = text.get(..end).unwrap_or_default();
    if most > 2 * missing.len() { format!("{beginning}{missing}") } else { beginning.to_owned() }
}

impl Store {
    /// Appends to the audit trail. Nothing changes or deletes what stands in it.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_audit(&self, entry: &AuditEntry<'_>) -> Result<(), StoreError> {
        let insert = "INSERT INTO audit (at, person, source, action, detail, gateway, object, content_before, \
                      content_after) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)";
        let content = |text: &Option<String>| text.as_deref().map(|text| cut(text, CONTENT));
        let work = async {
            sqlx::query(insert)
                .bind(entry.at)
                .bind(cut(entry.person, 128))
                .bind(cut(entry.source, 64))
                .bind(cut(entry.action, 64))
                .bind(cut(entry.detail, DETAIL))
                .bind(cut(entry.gateway, 64))
                .bind(cut(entry.object, 255))
                .bind(content(&entry.before))
                .bind(content(&entry.after))
                .execute(&self.pool)
                .await?;
            Ok(())
        };
        self.in_time(work).await
    }

    /// Entries of the audit trail, the newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn audit(&self, filter: &AuditFilter) -> Result<Vec<AuditRecord>, StoreError> {
        // Only literals are put together here; whatever comes from outside is bound.
        let mut query = QueryBuilder::new("SELECT * FROM audit WHERE TRUE");
        if let Some(from) = filter.from {
            query.push(" AND at >= ").push_bind(from);
        }
        if let Some(to) = filter.to {
            query.push(" AND at < ").push_bind(to);
        }
        if let Some(below) = filter.below {
            query.push(" AND id < ").push_bind(below);
        }
        if let Some(person) = &filter.person {
            query.push(" AND person = ").push_bind(person);
        }
        if let Some(action) = &filter.action {
            query.push(" AND action = ").push_bind(action);
        }
        if let Some(gateway) = &filter.gateway {
            query.push(" AND gateway = ").push_bind(gateway);
        }
        if let Some(text) = &filter.text {
            query.push(" AND (LOCATE(LOWER(").push_bind(text).push("), LOWER(detail)) > 0 OR LOCATE(LOWER(");
            query.push_bind(text).push("), LOWER(object)) > 0)");
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        let record = |row: &sqlx::mysql::MySqlRow| {
            Ok(AuditRecord {
                id: row.try_get("id")?,
                at: row.try_get("at")?,
                person: row.try_get("person")?,
                source: row.try_get("source")?,
                action: row.try_get("action")?,
                detail: row.try_get("detail")?,
                gateway: row.try_get("gateway")?,
                object: row.try_get("object")?,
                before: row.try_get("content_before")?,
                after: row.try_get("content_after")?,
            })
        };
        rows.iter().map(record).collect()
    }
}
