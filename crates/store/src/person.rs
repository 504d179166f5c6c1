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
        [Self::Operator, Self::Engineer, Self::Administrator]
            .into_iter()
            .find(|role| role.word() == word)
            .unwrap_or(Self::Viewer)
    }
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

fn added(result: Result<sqlx::mysql::MySqlQueryResult, sqlx::Error>, name: &str) -> Result<u64, StoreError> {
    match result {
        Ok(done) => Ok(done.rows_affected()),
        Err(error) if is_taken(&error) => Err(StoreError::Exists(name.to_owned())),
        Err(error) => Err(error.into()),
    }
}
