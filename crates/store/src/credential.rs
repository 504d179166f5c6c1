use crate::{Role, Store, StoreError};
use sha2::{Digest, Sha256};
use sqlx::Row;
use std::fmt;

/// What a credential is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CredentialKind {
    /// A browser's cookie.
    Session,
    /// A client's token.
    Token,
}

impl CredentialKind {
    const fn word(self) -> &'static str {
        match self {
            Self::Session => "session",
            Self::Token => "token",
        }
    }
}

/// A secret of 256 random bits, shown once to whom it is for. The database knows its hash only.
#[derive(Clone)]
pub struct Secret(String);

impl Secret {
    /// A new one from the system's random numbers.
    ///
    /// # Errors
    /// When the system has none.
    pub fn generate() -> Result<Self, getrandom::Error> {
        let mut bytes = [0; 32];
        getrandom::fill(&mut bytes)?;
        Ok(Self(hex::encode(bytes)))
    }

    /// The text to hand over.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// Who a credential belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedIn {
    /// The name of the person.
    pub name: String,
    /// What the person may do.
    pub role: Role,
}

/// A token as it is listed: everything but what is secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRecord {
    /// A number to name it by.
    pub id: String,
    /// Whose it is.
    pub person: String,
    /// What it is for.
    pub label: String,
    /// When it was made, in milliseconds since 1970 UTC.
    pub created_at: i64,
    /// Until when it is good.
    pub expires_at: i64,
}

/// A plain hash is enough for a secret with 256 random bits: there is nothing to guess.
fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret.as_bytes()).to_vec()
}

impl Store {
    /// Keeps a credential until `expires_at`, and forgets the expired ones.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn add_credential(
        &self,
        person: u32,
        kind: CredentialKind,
        label: &str,
        secret: &Secret,
        created_at: i64,
        expires_at: i64,
    ) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM credential WHERE expires_at < ?").bind(created_at).execute(&self.pool).await?;
        let insert = "INSERT INTO credential (secret_hash, person, kind, label, created_at, expires_at) VALUES (?, ?, ?, ?, ?, ?)";
        sqlx::query(insert)
            .bind(hash(secret.reveal()))
            .bind(person)
            .bind(kind.word())
            .bind(label)
            .bind(created_at)
            .bind(expires_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Finds whom a secret belongs to, unless it has expired.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn signed_in(
        &self,
        kind: CredentialKind,
        secret: &str,
        now: i64,
    ) -> Result<Option<SignedIn>, StoreError> {
        let query = "SELECT p.name, p.role FROM credential c JOIN person p ON p.id = c.person \
                     WHERE c.secret_hash = ? AND c.kind = ? AND c.expires_at > ?";
        let row = sqlx::query(query).bind(hash(secret)).bind(kind.word()).bind(now).fetch_optional(&self.pool).await?;
        row.map(|row| {
            let role: String = row.try_get("role")?;
            Ok(SignedIn { name: row.try_get("name")?, role: Role::from_word(&role) })
        })
        .transpose()
    }

    /// The tokens of a person, or of everybody, the newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn tokens(&self, person: Option<&str>) -> Result<Vec<TokenRecord>, StoreError> {
        let query = "SELECT c.secret_hash, p.name, c.label, c.created_at, c.expires_at FROM credential c \
                     JOIN person p ON p.id = c.person WHERE c.kind = ? AND (? IS NULL OR p.name = ?) \
                     ORDER BY c.created_at DESC";
        let query = sqlx::query(query).bind(CredentialKind::Token.word()).bind(person).bind(person);
        let token = |row: &sqlx::mysql::MySqlRow| {
            let hash: Vec<u8> = row.try_get("secret_hash")?;
            Ok(TokenRecord {
                id: hex::encode(hash.get(..8).unwrap_or_default()),
                person: row.try_get("name")?,
                label: row.try_get("label")?,
                created_at: row.try_get("created_at")?,
                expires_at: row.try_get("expires_at")?,
            })
        };
        query.fetch_all(&self.pool).await?.iter().map(token).collect()
    }

    /// Takes a token away, by the number that it is listed under; of one person, or of anybody. Tells whether it was
    /// there.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn remove_token(&self, id: &str, person: Option<&str>) -> Result<bool, StoreError> {
        let delete = "DELETE c FROM credential c JOIN person p ON p.id = c.person WHERE c.kind = ? AND \
                      LOWER(HEX(LEFT(c.secret_hash, 8))) = ? AND (? IS NULL OR p.name = ?)";
        let query = sqlx::query(delete).bind(CredentialKind::Token.word()).bind(id).bind(person).bind(person);
        Ok(query.execute(&self.pool).await?.rows_affected() > 0)
    }

    /// Forgets a credential.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn remove_credential(&self, secret: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM credential WHERE secret_hash = ?").bind(hash(secret)).execute(&self.pool).await?;
        Ok(())
    }
}
