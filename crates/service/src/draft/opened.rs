use interlex_core::description::{self, Checked, Draft, ObjectRef};
use interlex_store::GatewayRecord;
use serde_json::Value;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

/// A draft as it was at one version of its gateway.
#[derive(Debug)]
pub(crate) struct OpenDraft {
    pub(crate) record: GatewayRecord,
    pub(crate) draft: Arc<Draft>,
    /// Who changed an object, and when, where it differs from the revision.
    pub(crate) authors: HashMap<ObjectRef, (String, i64)>,
    checked: OnceLock<Checked>,
    canonical: OnceLock<Arc<Draft>>,
}

impl OpenDraft {
    /// The check of the draft by itself, made once.
    pub(crate) fn checked(&self) -> &Checked {
        self.checked.get_or_init(|| description::check(&self.draft))
    }

    /// The draft in canonical form where it would run, for comparisons; made once.
    pub(crate) fn canonical(&self) -> Arc<Draft> {
        let make = || match &self.checked().description {
            Some(description) => Arc::new(Draft::from(description)),
            None => Arc::clone(&self.draft),
        };
        Arc::clone(self.canonical.get_or_init(make))
    }

    pub(crate) fn new(record: GatewayRecord, draft: Arc<Draft>, authors: HashMap<ObjectRef, (String, i64)>) -> Self {
        Self { record, draft, authors, checked: OnceLock::new(), canonical: OnceLock::new() }
    }

    /// One object.
    pub(crate) fn object(&self, wanted: &ObjectRef) -> Option<Value> {
        self.draft.objects().find(|(object, _)| object == wanted).map(|(_, content)| content.into_owned())
    }
}
