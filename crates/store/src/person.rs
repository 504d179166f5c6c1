use crate::{Store, StoreError, is_taken};
use serde::{Deserialize, Serialize};
use sqlx::Row;

/// What a person may do. Each may all that the ones before it may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Looks.
    Viewer,
    /// Writes values and acknowledges.
    Operator,
    /// Edits and activates.
    Engineer,
    /// Also people and tokens.
    Administrator,
}

impl Role {
    /// The word in the database and on screens.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Engineer => "engineer",
            Self::Administrator => "administrator",
        }
    }

    /// The role of a word. What is unknown may the least.
    pub(crate) fn from_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|role| role.word() == word).unwrap_or(Self::Viewer)
    }

    /// All roles, the one that may the least first.
    pub const ALL: [Self; 4] = [Self::Viewer, Self::Operator, Self::Engineer, Self::Administrator];
}

/// A person about to be added.
#[derive(Debug, Clone)]
pub struct NewPerson<'a> {
    /// The name to sign in with, unique.
    pub name: &'a str,
    /// The hash of the password, in PHC form.
    pub password_hash: &'a str,
    /// What the person may do.
    pub role: Role,
    /// When, in milliseconds since 1970 UTC.
    pub created_at: i64,
}

/// A person as others see them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PersonSummary {
    /// The name to sign in with.
    pub name: String,
    /// What the person may do.
    pub role: Role,
    /// Since when the person is known, in milliseconds since 1970 UTC.
    pub created_at: i64,
}

/// A person who can sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Number in the database.
    pub id: u32,
    /// The name to sign in with.
    pub name: String,
    /// The hash of the password, in PHC form.
    pub password_hash: String,
    /// What the person may do.
    pub role: Role,
}

impl Store {
    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::Exists`] when the name is taken.
    pub async fn add_person(&self, new: &NewPerson<'_>) -> Result<(), StoreError> {
        let insert = "INSERT INTO person (name, password_hash, role, created_at) VALUES (?, ?, ?, ?)";
        let query =
            sqlx::query(insert).bind(new.name).bind(new.password_hash).bind(new.role.word()).bind(new.created_at);
        added(query.execute(&self.pool).await, new.name).map(|_| ())
    }

    /// Adds the very first person; tells whether there was none before.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_first_person(&self, new: &NewPerson<'_>) -> Result<bool, StoreError> {
        // One statement, so that two browsers with the same code cannot both become the first.
        let insert = "INSERT INTO person (name, password_hash, role, created_at) \
                      SELECT ?, ?, ?, ? FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM person)";
        let query =
            sqlx::query(insert).bind(new.name).bind(new.password_hash).bind(new.role.word()).bind(new.created_at);
        Ok(added(query.execute(&self.pool).await, new.name)? > 0)
    }

    /// Whether nobody can sign in yet.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn has_nobody(&self) -> Result<bool, StoreError> {
        let someone: Option<u32> =
            sqlx::query_scalar("SELECT id FROM person LIMIT 1").fetch_optional(&self.pool).await?;
        Ok(someone.is_none())
    }

    /// Finds a person by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn person(&self, name: &str) -> Result<Option<Person>, StoreError> {
        let query = "SELECT id, name, password_hash, role FROM person WHERE name = ?";
        let row = sqlx::query(query).bind(name).fetch_optional(&self.pool).await?;
        row.map(|row| {
            let role: String = row.try_get("role")?;
            let (id, name) = (row.try_get("id")?, row.try_get("name")?);
            Ok(Person { id, name, password_hash: row.try_get("password_hash")?, role: Role::from_word(&role) })
        })
        .transpose()
    }
}

impl Store {
    /// Everybody, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn people(&self) -> Result<Vec<PersonSummary>, StoreError> {
        let rows = sqlx::query("SELECT name, role, created_at FROM person ORDER BY name").fetch_all(&self.pool).await?;
        let person = |row: &sqlx::mysql::MySqlRow| {
            let role: String = row.try_get("role")?;
            let created_at = row.try_get("created_at")?;
            Ok(PersonSummary { name: row.try_get("name")?, role: Role::from_word(&role), created_at })
        };
        rows.iter().map(person).collect()
    }

    /// Gives a person another role. Tells whether that was done: the last administrator stays one.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_role(&self, name: &str, role: Role) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let kept = role == Role::Administrator || has_other_administrator(&mut transaction, name).await?;
        if kept {
            let update = "UPDATE person SET role = ? WHERE name = ?";
            sqlx::query(update).bind(role.word()).bind(name).execute(&mut *transaction).await?;
            transaction.commit().await?;
        }
        Ok(kept)
    }

    /// Gives a person another password, and signs the person out everywhere.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn set_password(&self, name: &str, password_hash: &str) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let update = "UPDATE person SET password_hash = ? WHERE name = ?";
        sqlx::query(update).bind(password_hash).bind(name).execute(&mut *transaction).await?;
        let delete = "DELETE c FROM credential c JOIN person p ON p.id = c.person WHERE p.name = ?";
        sqlx::query(delete).bind(name).execute(&mut *transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Takes a person away, with all sessions and tokens. Tells whether that was done: the last administrator stays.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn remove_person(&self, name: &str) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let kept = has_other_administrator(&mut transaction, name).await?;
        if kept {
            sqlx::query("DELETE FROM person WHERE name = ?").bind(name).execute(&mut *transaction).await?;
            transaction.commit().await?;
        }
        Ok(kept)
    }
}

/// Whether somebody else than `name` is an administrator; locks them, so that two cannot depose each other at once.
async fn has_other_administrator(
    transaction: &mut sqlx::Transaction<'static, sqlx::MySql>,
    name: &str,
) -> Result<bool, StoreError> {
    let query = "SELECT name FROM person WHERE role = ? FOR UPDATE";
    let names: Vec<String> =
        sqlx::query_scalar(query).bind(Role::Administrator.word()).fetch_all(&mut **transaction).await?;
    Ok(names.iter().any(|other| other != name))
}

fn added(result: Result<sqlx::mysql::MySqlQueryResult, sqlx::Error>, name: &str) -> Result<u64, StoreError> {
    match result {
        Ok(done) => Ok(done.rows_affected()),
        Err(error) if is_taken(&error) => Err(StoreError::Exists(name.to_owned())),
        Err(error) => Err(error.into()),
    }
}
