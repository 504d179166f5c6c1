use crate::{Store, StoreError};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};

/// A part did not work for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outage {
    /// The gateway; empty where all of the service was away.
    pub gateway: String,
    /// What did not work: service, link, device, uplink.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// From when, in milliseconds since 1970 UTC.
    pub from: i64,
    /// Until when; none while it lasts.
    pub to: Option<i64>,
    /// What broke, in words.
    pub why: String,
    /// How many samples or messages were kept for a broker.
    pub kept: Option<u64>,
    /// How many of them were sent later.
    pub sent_later: Option<u64>,
    /// How many were lost.
    pub lost: Option<u64>,
    /// Nothing of it changes any more.
    pub is_settled: bool,
}

/// An outage with its number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutageRecord {
    /// Its number.
    pub id: u64,
    /// What it was.
    pub outage: Outage,
}

/// Which outages to give.
#[derive(Debug, Clone, Default)]
pub struct OutageFilter {
    /// Only of this gateway; those of the whole service belong to each.
    pub gateway: Option<String>,
    /// Only of this kind.
    pub kind: Option<String>,
    /// Only of the part of this name.
    pub name: Option<String>,
    /// Not over before this, in milliseconds since 1970 UTC.
    pub from: Option<i64>,
    /// Begun before this.
    pub to: Option<i64>,
    /// Only what comes behind this one in the list.
    pub behind: Option<(i64, u64)>,
    /// So many at the most.
    pub limit: u32,
}

fn record(row: &MySqlRow) -> Result<OutageRecord, StoreError> {
    let outage = Outage {
        gateway: row.try_get("gateway")?,
        kind: row.try_get("kind")?,
        name: row.try_get("name")?,
        from: row.try_get("from_at")?,
        to: row.try_get("to_at")?,
        why: row.try_get("why")?,
        kept: row.try_get("kept")?,
        sent_later: row.try_get("sent_later")?,
        lost: row.try_get("lost")?,
        is_settled: row.try_get("is_settled")?,
    };
    Ok(OutageRecord { id: row.try_get("id")?, outage })
}

/// Characters that are kept of what broke.
const WHY: usize = 512;

impl Store {
    /// Keeps what is known of an outage, which is told from others by its part and its begin.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn keep_outage(&self, outage: &Outage) -> Result<(), StoreError> {
        let upsert = "INSERT INTO outage (gateway, kind, name, from_at, to_at, why, kept, sent_later, lost, is_settled) \
                      VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) \
                      ON DUPLICATE KEY UPDATE to_at = VALUES(to_at), why = VALUES(why), kept = VALUES(kept), \
                      sent_later = VALUES(sent_later), lost = VALUES(lost), is_settled = VALUES(is_settled)";
        let why: String = outage.why.chars().take(WHY).collect();
        let query = sqlx::query(upsert).bind(&outage.gateway).bind(&outage.kind).bind(&outage.name);
        let query = query.bind(outage.from).bind(outage.to).bind(why);
        let query = query.bind(outage.kept).bind(outage.sent_later).bind(outage.lost).bind(outage.is_settled);
        self.in_time(async { Ok(query.execute(&self.pool).await.map(drop)?) }).await
    }

    /// Outages of which something may change yet, by their begin.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn unsettled_outages(&self) -> Result<Vec<Outage>, StoreError> {
        let query = sqlx::query("SELECT * FROM outage WHERE NOT is_settled ORDER BY from_at, id");
        let rows = self.in_time(async { Ok(query.fetch_all(&self.pool).await?) }).await?;
        rows.iter().map(|row| Ok(record(row)?.outage)).collect()
    }

    /// Outages, the last one first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn outages(&self, filter: &OutageFilter) -> Result<Vec<OutageRecord>, StoreError> {
        // Only literals are put together here; whatever comes from outside is bound.
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT * FROM outage WHERE 1 = 1");
        if let Some(gateway) = &filter.gateway {
            query.push(" AND gateway IN ('', ").push_bind(gateway).push(")");
        }
        for (column, wanted) in [("kind", &filter.kind), ("name", &filter.name)] {
            if let Some(wanted) = wanted {
                query.push(" AND ").push(column).push(" = ").push_bind(wanted);
            }
        }
        if let Some(from) = filter.from {
            query.push(" AND (to_at IS NULL OR to_at >= ").push_bind(from).push(")");
        }
        if let Some(to) = filter.to {
            query.push(" AND from_at < ").push_bind(to);
        }
        if let Some((from, id)) = filter.behind {
            query.push(" AND (from_at < ").push_bind(from).push(" OR from_at = ").push_bind(from);
            query.push(" AND id < ").push_bind(id).push(")");
        }
        query.push(" ORDER BY from_at DESC, id DESC LIMIT ").push_bind(filter.limit);
        query.build().fetch_all(&self.pool).await?.iter().map(record).collect()
    }

    /// Says that the service runs; tells when it was last known to, before that.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn note_alive(&self, at: i64) -> Result<Option<i64>, StoreError> {
        let work = async {
            let before = sqlx::query_scalar("SELECT at FROM alive WHERE id = 1").fetch_optional(&self.pool).await?;
            let upsert = "INSERT INTO alive (id, at) VALUES (1, ?) ON DUPLICATE KEY UPDATE at = VALUES(at)";
            sqlx::query(upsert).bind(at).execute(&self.pool).await?;
            Ok(before)
        };
        self.in_time(work).await
    }

    /// Keeps the last `most` outages that are over, and removes some of the others.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn trim_outages(&self, most: u32) -> Result<(), StoreError> {
        let oldest = "SELECT from_at FROM outage WHERE is_settled ORDER BY from_at DESC LIMIT 1 OFFSET ?";
        let beyond: Option<i64> = sqlx::query_scalar(oldest).bind(most).fetch_optional(&self.pool).await?;
        if let Some(beyond) = beyond {
            let delete = "DELETE FROM outage WHERE is_settled AND from_at <= ? LIMIT 5000";
            sqlx::query(delete).bind(beyond).execute(&self.pool).await?;
        }
        Ok(())
    }
}
