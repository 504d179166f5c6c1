use crate::{Store, StoreError};
use sqlx::Row;
use std::time::Duration;

/// Who wants to work with a database alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeaseHolder {
    /// The same at every start from the same data directory.
    pub installation: String,
    /// Another one at every start.
    pub run: String,
    /// In words, for whoever finds the lease taken.
    pub words: String,
}

/// What became of a lease.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lease {
    /// It is ours until the end of its span.
    Held,
    /// Somebody else has it.
    Taken {
        /// Who, in their words.
        holder: String,
    },
}

impl Store {
    /// Brings the tables that it needs up to date, and takes the lease.
    ///
    /// # Errors
    /// [`StoreError::Database`] while the database is away, [`StoreError::Migration`] when it is not fit.
    pub async fn prepare_lease(&self, holder: &LeaseHolder, span: Duration) -> Result<Lease, StoreError> {
        self.migrate().await?;
        self.take_lease(holder, span).await
    }

    /// Takes the lease of this database for a span of the database's own clock, or renews it. One that has ended is free, and
    /// so is one of the same installation: its process is gone, or finds the lease taken when it renews.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn take_lease(&self, holder: &LeaseHolder, span: Duration) -> Result<Lease, StoreError> {
        self.lease(holder, span, true).await
    }

    /// Renews a lease that was taken.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn renew_lease(&self, holder: &LeaseHolder, span: Duration) -> Result<Lease, StoreError> {
        self.lease(holder, span, false).await
    }

    async fn lease(&self, own: &LeaseHolder, span: Duration, takes_over: bool) -> Result<Lease, StoreError> {
        loop {
            match self.try_lease(own, span, takes_over).await {
                // Two that find no lease stand in each other's way; the database lets one of them through.
                Err(StoreError::Database(error)) if is_deadlock(&error) => {}
                done => return done,
            }
        }
    }

    async fn try_lease(&self, own: &LeaseHolder, span: Duration, takes_over: bool) -> Result<Lease, StoreError> {
        let work = async {
            let mut transaction = self.pool.begin().await?;
            let query =
                "SELECT installation, run, holder, until_at < NOW(3) AS is_over FROM lease WHERE id = 1 FOR UPDATE";
            if let Some(row) = sqlx::query(query).fetch_optional(&mut *transaction).await? {
                let (installation, run): (String, String) = (row.try_get("installation")?, row.try_get("run")?);
                let is_over: bool = row.try_get("is_over")?;
                let is_own = run == own.run || (takes_over && installation == own.installation);
                if !is_own && !is_over {
                    return Ok(Lease::Taken { holder: row.try_get("holder")? });
                }
                // Whoever took it meanwhile, and has let it go since, has worked with the database: it is not ours any more.
                if !takes_over && run != own.run {
                    return Ok(Lease::Taken { holder: row.try_get("holder")? });
                }
            }
            let upsert = "INSERT INTO lease (id, installation, run, holder, until_at) \
                          VALUES (1, ?, ?, ?, NOW(3) + INTERVAL ? MICROSECOND) \
                          ON DUPLICATE KEY UPDATE installation = VALUES(installation), run = VALUES(run), \
                          holder = VALUES(holder), until_at = VALUES(until_at)";
            let query = sqlx::query(upsert).bind(&own.installation).bind(&own.run).bind(&own.words);
            let microseconds = i64::try_from(span.as_micros()).unwrap_or(i64::MAX);
            query.bind(microseconds).execute(&mut *transaction).await?;
            transaction.commit().await?;
            Ok(Lease::Held)
        };
        self.in_time(work).await
    }

    /// Lets the lease go at an orderly end, if it is ours.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn end_lease(&self, own: &LeaseHolder) -> Result<(), StoreError> {
        let work = async {
            let delete = "DELETE FROM lease WHERE id = 1 AND run = ?";
            sqlx::query(delete).bind(&own.run).execute(&self.pool).await?;
            Ok(())
        };
        self.in_time(work).await
    }
}

/// Source: SQLSTATE 40001, serialization failure.
fn is_deadlock(error: &sqlx::Error) -> bool {
    error.as_database_error().and_then(|error| error.code()).as_deref() == Some("40001")
}
