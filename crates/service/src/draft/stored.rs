use interlex_core::description::{Draft, Row};
use interlex_store::{Piece, PieceDigest, PiecedFiles};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Lists as they are kept in the database, and the pieces of each: what stands as it did is neither written nor read again.
#[derive(Debug, Default)]
pub(crate) struct StoredLists(HashMap<String, (Arc<Vec<Row>>, Vec<PieceDigest>)>);

impl StoredLists {
    /// Those of a draft whose files are made of these pieces.
    pub(crate) fn of(draft: &Draft, pieces: impl IntoIterator<Item = (String, Vec<PieceDigest>)>) -> Self {
        let list = |(path, pieces): (String, _)| Some((path.clone(), (Arc::clone(draft.lists.get(&path)?), pieces)));
        Self(pieces.into_iter().filter_map(list).collect())
    }

    /// The files of a draft: of lists that are kept, the pieces by what they are known by.
    pub(crate) fn files_of(&self, draft: &Draft) -> (PiecedFiles, Self) {
        let kept = |path: &str| {
            let (rows, pieces) = self.0.get(path)?;
            Arc::ptr_eq(rows, draft.lists.get(path)?).then_some(pieces)
        };
        let made = draft.to_files_but(|path| kept(path).is_some());
        let mut files: PiecedFiles = made.iter().map(|(path, text)| (path.clone(), Piece::of_file(text))).collect();
        for path in draft.lists.keys() {
            let Some(pieces) = kept(path) else { continue };
            files.insert(path.clone(), pieces.iter().copied().map(Piece::kept).collect());
        }
        let digests: BTreeMap<_, Vec<_>> = files
            .iter()
            .map(|(path, pieces)| (path.clone(), pieces.iter().map(|piece| piece.digest).collect()))
            .collect();
        let stored = Self::of(draft, digests);
        (files, stored)
    }
}
