use super::stored::StoredLists;
use interlex_core::description::{self, CheckMemory, Checked, Content, Draft, ObjectRef};
use interlex_store::{DraftChange, DraftEdit, GatewayRecord};
use serde_json::Value;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

/// What a draft began with, and what of it is kept in the database.
pub(crate) type Base = (Arc<Draft>, Arc<StoredLists>);

/// A draft as it was at one version of its gateway.
#[derive(Debug)]
pub(crate) struct OpenDraft {
    pub(crate) record: GatewayRecord,
    pub(crate) draft: Arc<Draft>,
    /// What it is without its edits.
    pub(crate) base: Arc<Draft>,
    /// What of it is kept in the database already.
    pub(crate) stored: Arc<StoredLists>,
    /// Who changed an object, and when, where it differs from the revision.
    pub(crate) authors: HashMap<ObjectRef, (String, i64)>,
    /// What was found when an earlier one was checked: what it has in common with this one is not checked again.
    known: Arc<CheckMemory>,
    checked: OnceLock<(Checked, Arc<CheckMemory>)>,
    canonical: OnceLock<Arc<Draft>>,
}

impl OpenDraft {
    /// The check of the draft by itself, made once.
    pub(crate) fn checked(&self) -> &Checked {
        &self.check().0
    }

    fn check(&self) -> &(Checked, Arc<CheckMemory>) {
        self.checked.get_or_init(|| {
            let (checked, found) = description::check_since(&self.draft, &self.known);
            (checked, Arc::new(found))
        })
    }

    /// What a later draft of the same gateway need not have checked again.
    pub(crate) fn known(&self) -> Arc<CheckMemory> {
        Arc::clone(self.checked.get().map_or(&self.known, |(_, found)| found))
    }

    /// The draft in canonical form where it would run, for comparisons; made once.
    pub(crate) fn canonical(&self) -> Arc<Draft> {
        let make = || match self.check() {
            (Checked { description: Some(description), .. }, found) => Arc::new(found.canonical(description)),
            _ => Arc::clone(&self.draft),
        };
        Arc::clone(self.canonical.get_or_init(make))
    }

    /// A draft without edits; `known` is what was found of the one before it.
    pub(crate) fn new(record: GatewayRecord, (base, stored): Base, known: Arc<CheckMemory>) -> Self {
        let (draft, authors) = (Arc::clone(&base), HashMap::new());
        Self { record, draft, base, stored, authors, known, checked: OnceLock::new(), canonical: OnceLock::new() }
    }

    /// The same with its edits.
    pub(crate) fn with_edits(self, edits: Vec<DraftEdit>) -> Self {
        let mut authors = HashMap::new();
        for edit in edits.iter().filter(|edit| edit.changed_at > 0) {
            let name = edit.content.as_ref().and_then(|content| content.get("name")?.as_str());
            if let Some(name) = name {
                let object = ObjectRef { name: name.to_owned(), ..edit.object.clone() };
                authors.insert(object, (edit.changed_by.clone(), edit.changed_at));
            }
        }
        let edits = edits.into_iter().map(|edit| (edit.object, edit.is_new, edit.content));
        Self { draft: Arc::new(self.base.overlaid(edits)), authors, ..self }
    }

    /// One object.
    pub(crate) fn object(&self, wanted: &ObjectRef) -> Option<Value> {
        self.draft.object(wanted).map(Content::into_value)
    }

    /// How many points it has.
    pub(crate) fn points(&self) -> usize {
        self.draft.points()
    }

    /// The draft as some changes leave it, whose version is this one then.
    pub(crate) fn edited(&self, changes: &[DraftChange], person: &str, at: i64, version: u64) -> Self {
        let draft = self.draft.edited(changes.iter().map(|change| (&change.object, change.content.as_ref())));
        let mut authors = self.authors.clone();
        for DraftChange { object, content, .. } in changes {
            authors.remove(object);
            if let Some(content) = content {
                let name = content.get("name").and_then(Value::as_str).unwrap_or(&object.name).to_owned();
                authors.insert(ObjectRef { name, ..object.clone() }, (person.to_owned(), at));
            }
        }
        let record = GatewayRecord {
            version,
            is_edited: true,
            changed_by: person.to_owned(),
            changed_at: at,
            ..self.record.clone()
        };
        let (base, stored) = (Arc::clone(&self.base), Arc::clone(&self.stored));
        Self { draft: Arc::new(draft), authors, ..Self::new(record, (base, stored), self.known()) }
    }
}
