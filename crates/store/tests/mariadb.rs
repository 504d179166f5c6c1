//! The store on a real MariaDB.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::Files;
use interlex_sidecar::{Database, free_port};
use interlex_store::{
    AuditEntry, CredentialKind, JournalSample, NewPerson, NewRevision, Role, Secret, Store, StoreError,
};

async fn start(directory: &tempfile::TempDir) -> (Database, Store) {
    let database = Database::start(directory.path(), free_port().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    (database, store)
}

fn files(text: &str) -> Files {
    [("gateway.toml".to_owned(), text.to_owned())].into()
}

/// One server for all of it: starting one takes longer than the tests.
#[tokio::test(flavor = "multi_thread")]
async fn the_store_keeps_what_it_is_given() {
    let directory = tempfile::tempdir().unwrap();
    let (mut database, store) = start(&directory).await;
    revisions_count_per_gateway_even_when_two_activate_at_once(&store).await;
    only_one_can_be_the_first_person(&store).await;
    credentials_are_found_until_they_expire_or_are_removed(&store).await;
    the_journal_comes_back_once_and_in_order(&store).await;
    a_second_migration_changes_nothing(&store).await;
    a_database_that_was_away_comes_back_with_all_that_was_written(&mut database, &store).await;
    store.close().await;
    database.stop().await;
}

async fn revisions_count_per_gateway_even_when_two_activate_at_once(store: &Store) {
    let add = async |gateway: &'static str, text: &'static str| {
        let files = files(text);
        let new = NewRevision { gateway, author: "ada", activated_at: 5, note: "Füllstand ergänzt", files: &files };
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

async fn the_journal_comes_back_once_and_in_order(store: &Store) {
    let sample = |at| JournalSample {
        device: "gas-analyser".to_owned(),
        point: "ch4".to_owned(),
        value: serde_json::json!(54.32),
        quality: "good".to_owned(),
        at,
    };
    let samples: Vec<_> = (0..2500).map(sample).collect();
    store.add_to_journal("alderfen-1", "cloud", &samples).await.unwrap();
    assert_eq!(store.take_journal("alderfen-1", "other").await.unwrap(), []);
    assert_eq!(store.take_journal("alderfen-1", "cloud").await.unwrap(), samples);
    assert_eq!(store.take_journal("alderfen-1", "cloud").await.unwrap(), []);
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
    let entry = AuditEntry { at: 1, person: "ada", source: "127.0.0.1", action: "sign-in", detail: "" };
    assert!(matches!(store.add_audit(&entry).await, Err(StoreError::Database(_))));
    database.restart().await.unwrap();
    store.add_audit(&entry).await.unwrap();
    assert_eq!(store.bd_seq("alderfen-1", "cloud").await.unwrap(), Some(8));
    assert_eq!(store.bd_seq("alderfen-1", "none").await.unwrap(), None);
}
