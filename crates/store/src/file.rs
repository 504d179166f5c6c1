//! The files of revisions and drafts, in pieces that are kept once.

use crate::{Store, StoreError};
use interlex_core::description::Files;
use sha2::{Digest as _, Sha256};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, MySqlConnection, QueryBuilder, Row, Transaction};
use std::collections::{BTreeMap, HashSet};

/// What a piece is known by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PieceDigest([u8; 16]);

/// A part of a file; without its text, one that is kept already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Piece {
    /// What it is known by.
    pub digest: PieceDigest,
    text: Option<String>,
}

/// The files of a revision or a draft in pieces, by their paths.
pub type PiecedFiles = BTreeMap<String, Vec<Piece>>;

/// A line ends a piece by what is in it, one of so many, so that lines put in or taken out change the pieces that they are in, and
/// no others.
const LINES: u64 = 1024;
/// The most that a piece has, in bytes, but for its last line: well below what any database takes at once.
const LARGEST: usize = 512 << 10;
/// So many bytes go in one statement, and so many rows.
const AT_ONCE: usize = 2 << 20;
const ROWS: usize = 2000;

impl Piece {
    fn new(text: &str) -> Self {
        let mut digest = PieceDigest([0; 16]);
        digest.0.iter_mut().zip(Sha256::digest(text.as_bytes())).for_each(|(to, from)| *to = from);
        Self { digest, text: Some(text.to_owned()) }
    }

    /// One that is kept already.
    #[must_use]
    pub const fn kept(digest: PieceDigest) -> Self {
        Self { digest, text: None }
    }

    /// A file in pieces.
    #[must_use]
    pub fn of_file(text: &str) -> Vec<Self> {
        let (mut pieces, mut from, mut to) = (Vec::new(), 0, 0);
        for line in text.split_inclusive('\n') {
            to += line.len();
            if ends_piece(line) || to - from >= LARGEST {
                pieces.extend(text.get(from..to).map(Self::new));
                from = to;
            }
        }
        pieces.extend(text.get(from..to).filter(|rest| !rest.is_empty()).map(Self::new));
        pieces
    }
}

/// FNV-1a, mixed so that all of it counts.
fn ends_piece(line: &str) -> bool {
    let spread = |hash: u64, byte: u8| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
    let hash = line.bytes().fold(0xcbf2_9ce4_8422_2325, spread);
    let mixed = (hash ^ (hash >> 31)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    (mixed >> 32).is_multiple_of(LINES)
}

impl Store {
    /// Whether the database takes what is written at once, with the setting that says otherwise.
    ///
    /// # Errors
    /// [`StoreError::Packet`], [`StoreError::Database`]
    pub(crate) async fn takes_pieces(&self) -> Result<(), StoreError> {
        let limit: u64 = sqlx::query_scalar("SELECT @@max_allowed_packet").fetch_one(&self.pool).await?;
        let needed = 2 * AT_ONCE as u64;
        if limit < needed { Err(StoreError::Packet { limit, needed }) } else { Ok(()) }
    }

    /// The files of a number, and the pieces that they are made of; none where there are none.
    ///
    /// # Errors
    /// [`StoreError::Database`]
    pub async fn files(
        &self,
        gateway: &str,
        number: i64,
    ) -> Result<(Files, BTreeMap<String, Vec<PieceDigest>>), StoreError> {
        let query = "SELECT f.path, f.digest, p.content FROM file f LEFT JOIN file_piece p ON p.digest = f.digest \
                     WHERE f.gateway = ? AND f.number = ? ORDER BY f.path, f.place";
        let rows = sqlx::query(query).bind(gateway).bind(number).fetch_all(&self.pool).await?;
        let (mut files, mut pieces) = (Files::new(), BTreeMap::<_, Vec<_>>::new());
        for row in rows {
            let path: String = row.try_get("path")?;
            let content: Option<Vec<u8>> = row.try_get("content")?;
            // A file without one of its pieces would be another description.
            let missing = || sqlx::Error::Protocol(format!("a piece of {path} of gateway {gateway} is missing"));
            let content = content.ok_or_else(missing)?;
            let text = String::from_utf8(content).map_err(|error| sqlx::Error::Decode(error.into()))?;
            files.entry(path.clone()).or_default().push_str(&text);
            pieces.entry(path).or_default().push(digest(&row)?);
        }
        Ok((files, pieces))
    }
}

fn digest(row: &MySqlRow) -> Result<PieceDigest, StoreError> {
    let digest: Vec<u8> = row.try_get("digest")?;
    let digest = digest.try_into().map_err(|_| sqlx::Error::Protocol("a digest of another length".to_owned()))?;
    Ok(PieceDigest(digest))
}

/// Keeps files under a number.
pub(crate) async fn keep(
    transaction: &mut Transaction<'static, MySql>,
    (gateway, number): (&str, i64),
    files: &PiecedFiles,
) -> Result<(), StoreError> {
    let mut known = HashSet::new();
    let mut new = files.values().flatten().filter_map(|piece| Some((piece.digest, piece.text.as_deref()?)));
    let mut new = std::iter::from_fn(|| new.by_ref().find(|(digest, _)| known.insert(*digest))).peekable();
    while new.peek().is_some() {
        let mut size = 0;
        let mut insert = QueryBuilder::new("INSERT IGNORE INTO file_piece (digest, content) ");
        let part = std::iter::from_fn(|| {
            let (digest, text) = new.next_if(|_| size < AT_ONCE)?;
            size += text.len();
            Some((digest, text))
        });
        insert.push_values(part, |mut row, (digest, text)| {
            row.push_bind(digest.0.to_vec()).push_bind(text.as_bytes());
        });
        insert.build().execute(&mut **transaction).await?;
    }
    let places = files.iter().flat_map(|(path, pieces)| (0_u32..).zip(pieces).map(move |place| (path, place)));
    let places: Vec<_> = places.collect();
    for part in places.chunks(ROWS) {
        let mut insert = QueryBuilder::new("INSERT INTO file (gateway, number, path, place, digest) ");
        insert.push_values(part, |mut row, (path, (place, piece))| {
            row.push_bind(gateway).push_bind(number).push_bind(*path).push_bind(place);
            row.push_bind(piece.digest.0.to_vec());
        });
        insert.build().execute(&mut **transaction).await?;
    }
    Ok(())
}

/// Drops the files that drafts of a gateway began with, but for those of a number, and the pieces that nothing else is made of.
pub(crate) async fn drop_of_drafts(
    connection: &mut MySqlConnection,
    gateway: &str,
    stays: Option<i64>,
) -> Result<(), sqlx::Error> {
    let stays = stays.unwrap_or_default();
    let query = "SELECT DISTINCT f.digest FROM file f WHERE f.gateway = ? AND f.number < 0 AND f.number <> ? AND NOT EXISTS \
                 (SELECT 1 FROM file o WHERE o.digest = f.digest AND (o.gateway <> f.gateway OR o.number > 0 OR o.number = ?))";
    let orphans = sqlx::query_scalar(query).bind(gateway).bind(stays).bind(stays);
    let orphans: Vec<Vec<u8>> = orphans.fetch_all(&mut *connection).await?;
    let delete = "DELETE FROM file WHERE gateway = ? AND number < 0 AND number <> ?";
    sqlx::query(delete).bind(gateway).bind(stays).execute(&mut *connection).await?;
    for part in orphans.chunks(ROWS) {
        let mut delete = QueryBuilder::new("DELETE FROM file_piece WHERE digest IN (");
        let mut digests = delete.separated(", ");
        part.iter().for_each(|digest| _ = digests.push_bind(digest));
        delete.push(")");
        delete.build().execute(&mut *connection).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_put_in_changes_the_pieces_that_it_is_in() {
        let line = |at: usize| format!("value-{at},holding:{at},uint16,0.1,kW,normal\n");
        let text: String = (0..20_000).map(line).collect();
        let pieces = Piece::of_file(&text);
        let joined: String = pieces.iter().filter_map(|piece| piece.text.clone()).collect();
        assert!(joined == text && pieces.len() > 8, "{} pieces", pieces.len());
        let edited = text.replacen("value-9000,", "another\nvalue-9000,", 1);
        let after = Piece::of_file(&edited);
        let known: HashSet<_> = pieces.iter().map(|piece| piece.digest).collect();
        let new = after.iter().filter(|piece| !known.contains(&piece.digest)).count();
        assert!((1..=2).contains(&new), "{new} of {} pieces are new", after.len());
        assert_eq!(Piece::of_file(""), []);
        let long = "x".repeat(3 * LARGEST);
        assert_eq!(Piece::of_file(&long).len(), 1, "a line is never cut");
    }
}
