//! The store on a real MariaDB.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Draft, Files, ObjectClass, ObjectRef};
use interlex_sidecar::{Database, own_socket};
use interlex_store::{
    AuditEntry, AuditFilter, CredentialKind, DraftChange, Edit, EditError, JournalBlock, JournalEntry, NewPerson,
    NewRevision, Piece, PiecedFiles, Role, Secret, Store, StoreError, version_of,
};

async fn start(directory: &tempfile::TempDir) -> (Database, Store) {
    let database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    (database, store)
}

fn files(text: &str) -> Files {
    [("gateway.toml".to_owned(), text.to_owned())].into()
}

fn pieced(files: &Files) -> PiecedFiles {
    files.iter().map(|(path, text)| (path.clone(), Piece::of_file(text))).collect()
}

/// One server for all of it: starting one takes longer than the tests.
#[tokio::test(flavor = "multi_thread")]
async fn the_store_keeps_what_it_is_given() {
    let directory = tempfile::tempdir().unwrap();
    let (mut database, store) = start(&directory).await;
    revisions_count_per_gateway_even_when_two_activate_at_once(&store).await;
    drafts_are_edited_by_two_and_nothing_is_overwritten_unseen(&store).await;
    activation_and_removal_end_a_draft(&store).await;
    only_one_can_be_the_first_person(&store).await;
    the_last_administrator_stays(&store).await;
    the_audit_trail_is_searched(&store).await;
    credentials_are_found_until_they_expire_or_are_removed(&store).await;
    the_journal_comes_back_in_order_until_it_is_removed(&store).await;
    a_second_migration_changes_nothing(&store).await;
    a_database_that_was_away_comes_back_with_all_that_was_written(&mut database, &store).await;
    store.close().await;
    database.stop().await;
}

async fn revisions_count_per_gateway_even_when_two_activate_at_once(store: &Store) {
    let add = async |gateway: &'static str, text: &'static str| {
        let files = pieced(&files(text));
        let new = NewRevision {
            gateway,
            author: "ada",
            activated_at: 5,
            note: "Füllstand ergänzt",
            files: &files,
            version: None,
        };
        store.add_revision(&new).await.unwrap()
    };
    assert_eq!((add("alderfen-1", "a").await, add("alderfen-2", "b").await), (1, 1));
    let (one, two) = tokio::join!(add("alderfen-1", "c"), add("alderfen-1", "d"));
    assert_eq!(one.min(two), 2);
    assert_eq!(one.max(two), 3);
    let active = store.active_revisions().await.unwrap();
    assert_eq!(active.iter().map(|revision| revision.summary.number).collect::<Vec<_>>(), [3, 1]);
    assert!(["c", "d"].map(files).contains(&active[0].files));
    let listed = store.revisions("alderfen-1").await.unwrap();
    assert_eq!(listed.iter().map(|summary| summary.number).collect::<Vec<_>>(), [3, 2, 1]);
    assert_eq!(listed[0].note, "Füllstand ergänzt");
}

fn valve(opening: u64) -> serde_json::Value {
    serde_json::json!({ "name": "valve", "link": "bus", "unit": opening })
}

async fn drafts_are_edited_by_two_and_nothing_is_overwritten_unseen(store: &Store) {
    store.add_gateway("heat", "ada", 1).await.unwrap();
    assert!(matches!(store.add_gateway("heat", "ada", 1).await, Err(StoreError::Exists(_))));
    let record = store.gateway("heat").await.unwrap().unwrap();
    let mut seed = Draft::new("heat");
    seed.push(ObjectClass::Device, "", valve(1));
    let edit = |person| Edit { gateway: &record, base: &seed, person, at: 7 };
    let device = |name: &str| ObjectRef::new(ObjectClass::Device, name);
    let change = |content: Option<serde_json::Value>| DraftChange {
        object: device("valve"),
        base: Some(version_of(&valve(1))),
        content,
    };
    let (one, two) = (change(Some(valve(2))), change(Some(valve(3))));
    let (one, two) = ([one], [two]);
    let (ada, bob) = (edit("ada"), edit("bob"));
    let (one, two) = tokio::join!(store.edit_draft(&ada, &one), store.edit_draft(&bob, &two));
    let (won, lost) = if one.is_ok() { ("ada", two) } else { ("bob", one) };
    let Err(EditError::Conflict(conflict)) = lost else { panic!("{lost:?}") };
    let current = conflict.current.unwrap();
    assert_eq!((current.changed_by.as_str(), current.changed_at), (won, 7));
    assert_ne!(current.content, valve(1));

    // Whoever has seen the newest one may go on: rename it, add one, and all or nothing of it happens.
    let mut renamed = current.content.clone();
    renamed["name"] = "main-valve".into();
    let rename =
        DraftChange { object: device("valve"), base: Some(version_of(&current.content)), content: Some(renamed) };
    let taken = DraftChange { object: device("main-valve"), base: None, content: Some(valve(9)) };
    assert!(matches!(store.edit_draft(&edit("ada"), &[rename.clone(), taken]).await, Err(EditError::Conflict(_))));
    let add = DraftChange { object: device("pump"), base: None, content: Some(serde_json::json!({ "name": "pump" })) };
    store.edit_draft(&edit("ada"), &[rename, add]).await.unwrap();
    let edits = async || store.draft_edits("heat").await.unwrap();
    let named = async || {
        let edits = edits().await.into_iter().map(|edit| (edit.object, edit.is_new, edit.content));
        let draft = seed.overlaid(edits);
        draft.devices.iter().map(|device| device["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!((named().await, edits().await.len()), ("main-valve pump".to_owned(), 2));

    // Names that are free again may be taken: by what had another one, and by what is new. Order and edits stand.
    let now = async |name: &str| {
        let edit =
            edits().await.into_iter().find(|edit| edit.content.as_ref().is_some_and(|known| known["name"] == *name));
        version_of(&edit.unwrap().content.unwrap())
    };
    let object = |name: &str| serde_json::json!({ "name": name });
    let swap = [
        DraftChange { object: device("pump"), base: Some(now("pump").await), content: Some(object("spare")) },
        DraftChange {
            object: device("main-valve"),
            base: Some(now("main-valve").await),
            content: Some(object("pump")),
        },
        DraftChange {
            object: device("spare"),
            base: Some(version_of(&object("spare"))),
            content: Some(object("valve")),
        },
    ];
    store.edit_draft(&edit("ada"), &swap).await.unwrap();
    assert_eq!(named().await, "pump valve");
    let gone = DraftChange { object: device("pump"), base: Some(version_of(&object("pump"))), content: None };
    let again = DraftChange { object: device("pump"), base: None, content: Some(object("pump")) };
    store.edit_draft(&edit("ada"), &[gone.clone(), again]).await.unwrap();
    assert_eq!(named().await, "valve pump", "what comes again comes last");
    store.edit_draft(&edit("ada"), &[gone]).await.unwrap();
    assert_eq!((named().await, edits().await.len()), ("valve".to_owned(), 2), "of what was new nothing is left");
}

async fn activation_and_removal_end_a_draft(store: &Store) {
    let record = store.gateway("heat").await.unwrap().unwrap();
    assert!(record.is_edited && record.active.is_none());
    let files = pieced(&files("heat"));
    let new =
        |version| NewRevision { gateway: "heat", author: "ada", activated_at: 9, note: "", files: &files, version };
    assert!(matches!(store.add_revision(&new(Some(record.version - 1))).await, Err(EditError::Moved)));
    assert_eq!(store.add_revision(&new(Some(record.version))).await.unwrap(), 1);
    let active = store.gateway("heat").await.unwrap().unwrap();
    assert_eq!((active.active, active.is_edited, active.version), (Some(1), false, record.version + 1));
    assert!(store.draft_edits("heat").await.unwrap().is_empty());
    let seed = Draft::new("heat");
    let stale = Edit { gateway: &record, base: &seed, person: "ada", at: 9 };
    assert!(
        matches!(store.edit_draft(&stale, &[]).await, Err(EditError::Moved)),
        "it would start from another revision"
    );
    assert!(matches!(store.replace_draft(&stale, &files).await, Err(EditError::Moved)));
    let fresh = Edit { gateway: &active, ..stale };
    let long: String = (0..9000).map(|at| format!("row {at}\n")).collect();
    let long = [("gateway.toml".to_owned(), "heat".to_owned()), ("points/long.csv".to_owned(), long)].into();
    let first = pieced(&long);
    store.replace_draft(&fresh, &first).await.unwrap();
    assert!(matches!(store.discard_draft(&fresh).await, Err(EditError::Moved)));
    let edited = store.gateway("heat").await.unwrap().unwrap();
    let (read, pieces) = store.files("heat", edited.draft_files.unwrap()).await.unwrap();
    assert_eq!(read, long);
    assert!(pieces["points/long.csv"].len() > 1);
    // A draft in its place that has the same list names its pieces only, and they stay though the one before goes.
    let kept = |(path, pieces): (String, Vec<_>)| (path, pieces.into_iter().map(Piece::kept).collect());
    let second: PiecedFiles = pieces.into_iter().map(kept).collect();
    store.replace_draft(&Edit { gateway: &edited, ..stale }, &second).await.unwrap();
    let edited = store.gateway("heat").await.unwrap().unwrap();
    assert_eq!(store.files("heat", edited.draft_files.unwrap()).await.unwrap().0, long);
    let stale_edit = store.edit_draft(&Edit { gateway: &active, ..stale }, &[]).await;
    assert!(matches!(stale_edit, Err(EditError::Moved)), "the draft has begun anew");
    store.discard_draft(&Edit { gateway: &edited, ..stale }).await.unwrap();
    assert!(!store.gateway("heat").await.unwrap().unwrap().is_edited);
    assert!(store.files("heat", edited.draft_files.unwrap()).await.unwrap().0.is_empty(), "and its files are gone");

    assert!(store.remove_gateway("heat", "ada", 10).await.unwrap());
    assert!(store.gateway("heat").await.unwrap().is_none());
    assert!(store.active_revisions().await.unwrap().iter().all(|revision| revision.summary.gateway != "heat"));
    assert_eq!(store.revisions("heat").await.unwrap().len(), 1, "what ran stays on record");
    store.add_gateway("heat", "ada", 11).await.unwrap();
    assert_eq!(store.gateway("heat").await.unwrap().unwrap().active, None);
    assert!(store.remove_gateway("heat", "ada", 12).await.unwrap());
}

async fn the_last_administrator_stays(store: &Store) {
    let admin = store.people().await.unwrap()[0].name.clone();
    assert!(!store.remove_person(&admin).await.unwrap());
    assert!(!store.set_role(&admin, Role::Viewer).await.unwrap());
    let new = NewPerson { name: "eve", password_hash: "x", role: Role::Viewer, created_at: 2 };
    store.add_person(&new).await.unwrap();
    assert!(store.set_role("eve", Role::Administrator).await.unwrap());
    assert!(store.set_role(&admin, Role::Engineer).await.unwrap());
    assert!(store.set_role(&admin, Role::Administrator).await.unwrap());
    let eve = store.person("eve").await.unwrap().unwrap();
    let secret = Secret::generate().unwrap();
    store.add_credential(eve.id, CredentialKind::Token, "laptop", &secret, 1, i64::MAX).await.unwrap();
    let tokens = store.tokens(Some("eve")).await.unwrap();
    assert_eq!((tokens.len(), tokens[0].label.as_str()), (1, "laptop"));
    assert!(!store.remove_token(&tokens[0].id, Some(&admin)).await.unwrap(), "it is not theirs");
    assert!(store.remove_token(&tokens[0].id, Some("eve")).await.unwrap());
    store.add_credential(eve.id, CredentialKind::Token, "laptop", &secret, 1, i64::MAX).await.unwrap();
    store.set_password("eve", "y").await.unwrap();
    assert_eq!(store.signed_in(CredentialKind::Token, secret.reveal(), 2).await.unwrap(), None);
    assert!(store.remove_person("eve").await.unwrap());
}

async fn the_audit_trail_is_searched(store: &Store) {
    for (at, person, action, object) in
        [(1, "ada", "edit", "link \"bus\""), (2, "bob", "edit", "device \"Pump\""), (3, "ada", "activate", "")]
    {
        let entry = AuditEntry {
            at,
            person,
            action,
            object,
            gateway: "heat",
            after: Some("{}".into()),
            ..AuditEntry::default()
        };
        store.add_audit(&entry).await.unwrap();
    }
    let found = async |filter: AuditFilter| {
        let filter = AuditFilter { gateway: Some("heat".into()), limit: 10, ..filter };
        store.audit(&filter).await.unwrap().into_iter().map(|record| record.at).collect::<Vec<_>>()
    };
    assert_eq!(found(AuditFilter::default()).await, [3, 2, 1]);
    assert_eq!(found(AuditFilter { person: Some("ada".into()), ..AuditFilter::default() }).await, [3, 1]);
    assert_eq!(found(AuditFilter { text: Some("pump".into()), ..AuditFilter::default() }).await, [2]);
    assert_eq!(found(AuditFilter { from: Some(2), to: Some(3), ..AuditFilter::default() }).await, [2]);
    let newest = store.audit(&AuditFilter { limit: 1, ..AuditFilter::default() }).await.unwrap();
    assert_eq!(found(AuditFilter { below: Some(newest[0].id), ..AuditFilter::default() }).await, [2, 1]);
}

async fn only_one_can_be_the_first_person(store: &Store) {
    assert!(store.has_nobody().await.unwrap());
    let person = |name| NewPerson { name, password_hash: "x", role: Role::Administrator, created_at: 1 };
    let (ada, bob) = (person("ada"), person("bob"));
    let (one, two) = tokio::join!(store.add_first_person(&ada), store.add_first_person(&bob));
    let won = [one, two].into_iter().filter(|first| matches!(first, Ok(true))).count();
    assert_eq!(won, 1);
    assert!(!store.has_nobody().await.unwrap());
    let second = NewPerson { role: Role::Viewer, ..person("cleo") };
    store.add_person(&second).await.unwrap();
    assert!(matches!(store.add_person(&second).await, Err(StoreError::Exists(_))));
    assert_eq!(store.person("cleo").await.unwrap().unwrap().role, Role::Viewer);
    assert_eq!(store.person("Cleo").await.unwrap(), None, "names are told apart by case");
}

async fn credentials_are_found_until_they_expire_or_are_removed(store: &Store) {
    let person = store.person("cleo").await.unwrap().unwrap();
    let secret = Secret::generate().unwrap();
    store.add_credential(person.id, CredentialKind::Token, "laptop", &secret, 100, 200).await.unwrap();
    let find = async |kind, now| store.signed_in(kind, secret.reveal(), now).await.unwrap().map(|found| found.name);
    assert_eq!(find(CredentialKind::Token, 150).await.as_deref(), Some("cleo"));
    assert_eq!(find(CredentialKind::Session, 150).await, None, "a token is no cookie");
    assert_eq!(find(CredentialKind::Token, 200).await, None);
    store.remove_credential(secret.reveal()).await.unwrap();
    assert_eq!(find(CredentialKind::Token, 150).await, None);
}

async fn the_journal_comes_back_in_order_until_it_is_removed(store: &Store) {
    let mut ids = Vec::new();
    for byte in 0..3_u8 {
        let block = JournalBlock { samples: vec![byte; 5000], count: 7, oldest_at: 100, newest_at: i64::from(byte) };
        ids.push(store.add_journal_block("alderfen-1", "cloud", &block).await.unwrap());
    }
    assert_eq!(store.journal_entries("alderfen-1", "other").await.unwrap(), []);
    let entries = store.journal_entries("alderfen-1", "cloud").await.unwrap();
    let entry = |id, newest_at| JournalEntry { id, bytes: 5000, count: 7, oldest_at: 100, newest_at };
    assert_eq!(entries, [entry(ids[0], 0), entry(ids[1], 1), entry(ids[2], 2)]);
    assert_eq!(store.journal_block(ids[1]).await.unwrap(), Some(vec![1; 5000]));
    assert_eq!(store.journal_block(999_999).await.unwrap(), None);
    store.remove_journal_blocks(&[ids[0], ids[2], 999_999]).await.unwrap();
    let left = store.journal_entries("alderfen-1", "cloud").await.unwrap();
    assert_eq!(left.iter().map(|block| block.id).collect::<Vec<_>>(), [ids[1]]);
}

async fn a_second_migration_changes_nothing(store: &Store) {
    store.migrate().await.unwrap();
    assert_eq!(store.revisions("alderfen-1").await.unwrap().len(), 3);
}

async fn a_database_that_was_away_comes_back_with_all_that_was_written(database: &mut Database, store: &Store) {
    store.set_bd_seq("alderfen-1", "cloud", 7).await.unwrap();
    store.set_bd_seq("alderfen-1", "cloud", 8).await.unwrap();
    database.kill().await;
    assert!(store.ping().await.is_err());
    let entry = AuditEntry { at: 1, person: "ada", source: "127.0.0.1", action: "sign-in", ..AuditEntry::default() };
    assert!(matches!(store.add_audit(&entry).await, Err(StoreError::Database(_) | StoreError::Slow)));
    database.restart().await.unwrap();
    store.add_audit(&entry).await.unwrap();
    assert_eq!(store.bd_seq("alderfen-1", "cloud").await.unwrap(), Some(8));
    assert_eq!(store.bd_seq("alderfen-1", "none").await.unwrap(), None);
}
