//! What services and uplinks keep in a real MariaDB, and what becomes of it when the database is away.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_sidecar::{Database, own_socket};
use interlex_store::{
    AuditEntry, AuditFilter, AuditTrail, CommandLifetime, GapRecord, JournalPoint, Lease, LeaseHolder, Store,
    StoreError,
};
use std::time::Duration;

const LONG: Duration = Duration::from_secs(3600);

/// One server for all of it: starting one takes longer than the tests.
#[tokio::test(flavor = "multi_thread")]
async fn what_services_and_uplinks_keep_is_theirs_alone() {
    let directory = tempfile::tempdir().unwrap();
    let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    one_service_at_a_time_has_the_database(&store).await;
    a_lease_that_has_ended_is_free_and_comes_back_to_nobody(&store).await;
    the_number_of_a_point_never_means_another(&store).await;
    gaps_of_an_uplink_are_replaced_as_a_whole(&store).await;
    uplinks_of_one_name_on_two_gateways_are_two(&store).await;
    the_last_lifetime_of_a_commanded_value_counts(&store).await;
    a_frozen_database_holds_nobody_up(&database, &store).await;
    entries_that_waited_are_stored_once_and_in_order(&mut database, &store).await;
    store.close().await;
    database.stop().await;
}

fn holder(installation: &str, run: &str) -> LeaseHolder {
    let words = format!("{run} of {installation}");
    LeaseHolder { installation: installation.to_owned(), run: run.to_owned(), words }
}

fn taken_by(holder: &LeaseHolder) -> Lease {
    Lease::Taken { holder: holder.words.clone() }
}

async fn one_service_at_a_time_has_the_database(store: &Store) {
    let (first, second) = (holder("north", "1"), holder("south", "2"));
    let (one, two) = tokio::join!(store.prepare_lease(&first, LONG), store.prepare_lease(&second, LONG));
    let (one, two) = (one.unwrap(), two.unwrap());
    assert!((&one, &two) == (&Lease::Held, &taken_by(&first)) || (&one, &two) == (&taken_by(&second), &Lease::Held));
    let (own, other) = if one == Lease::Held { (first, second) } else { (second, first) };
    store.end_lease(&other).await.unwrap();
    assert_eq!(store.renew_lease(&own, LONG).await.unwrap(), Lease::Held, "who does not have it cannot end it");
    // The same installation starts anew, because its process is gone; if it is not, it finds out when it renews.
    let again = holder(&own.installation, "3");
    assert_eq!(store.take_lease(&again, LONG).await.unwrap(), Lease::Held);
    assert_eq!(store.renew_lease(&own, LONG).await.unwrap(), taken_by(&again));
    assert_eq!(store.take_lease(&other, LONG).await.unwrap(), taken_by(&again));
    store.end_lease(&again).await.unwrap();
    assert_eq!(store.take_lease(&other, LONG).await.unwrap(), Lease::Held);
    store.end_lease(&other).await.unwrap();
}

async fn a_lease_that_has_ended_is_free_and_comes_back_to_nobody(store: &Store) {
    let (slow, quick) = (holder("north", "4"), holder("south", "5"));
    assert_eq!(store.take_lease(&slow, Duration::ZERO).await.unwrap(), Lease::Held);
    // Its span is over; nobody came, so it may go on.
    assert_eq!(store.renew_lease(&slow, Duration::ZERO).await.unwrap(), Lease::Held);
    let taken = async {
        while store.take_lease(&quick, Duration::ZERO).await.unwrap() != Lease::Held {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(10), taken).await.unwrap();
    // The other one has worked with the database meanwhile, however short a time.
    assert_eq!(store.renew_lease(&slow, LONG).await.unwrap(), taken_by(&quick));
    store.end_lease(&quick).await.unwrap();
}

async fn the_number_of_a_point_never_means_another(store: &Store) {
    let names: Vec<String> = (0..2500).map(|point| format!("value-{point}")).collect();
    let points = |from: usize| -> Vec<(&str, &str, String)> {
        names[from..].iter().map(|name| ("meter", name.as_str(), "uint16".to_owned())).collect()
    };
    // Two uplinks number the same points in the same moment.
    let (all, some) = (points(0), points(1500));
    let (one, two) = tokio::join!(store.add_journal_points("works", &all), store.add_journal_points("works", &some));
    one.unwrap();
    two.unwrap();
    let known = store.journal_points("works", 0).await.unwrap();
    assert_eq!(known.len(), names.len());
    assert!(known.windows(2).all(|pair| pair[0].number < pair[1].number));
    // A point with another type, or whose name differs by its case only, is another one; a second time changes nothing.
    let more = [("meter", "value-7", "float32"), ("meter", "Value-7", "uint16"), ("meter", "value-7", "uint16")];
    let more = more.map(|(device, point, data_type)| (device, point, data_type.to_owned()));
    store.add_journal_points("works", &more).await.unwrap();
    let last = known.last().unwrap().number;
    let new: Vec<_> = store.journal_points("works", last).await.unwrap();
    let words = |point: &JournalPoint| format!("{}/{} {}", point.device, point.point, point.data_type);
    assert_eq!(new.iter().map(words).collect::<Vec<_>>(), ["meter/value-7 float32", "meter/Value-7 uint16"]);
    assert_eq!(store.journal_points("other-works", 0).await.unwrap(), []);
}

async fn gaps_of_an_uplink_are_replaced_as_a_whole(store: &Store) {
    let gap = |from, why: &str| GapRecord { from, to: from + 5, count: u64::MAX >> 1, why: why.to_owned() };
    // The longest reason that there may be, in letters of four bytes.
    let long = "🜁".repeat(64);
    let first = [gap(-5, "the journal was full"), gap(i64::MAX - 5, &long)];
    store.set_uplink_gaps("works", "cloud", &first).await.unwrap();
    store.set_uplink_gaps("works", "historian", &[gap(7, "age")]).await.unwrap();
    assert_eq!(store.uplink_gaps("works", "cloud").await.unwrap(), first);
    // One that cannot be stored leaves what was there.
    let bad = [gap(1, "fine"), gap(2, &"x".repeat(65))];
    assert!(matches!(store.set_uplink_gaps("works", "cloud", &bad).await, Err(StoreError::Database(_))));
    assert_eq!(store.uplink_gaps("works", "cloud").await.unwrap(), first);
    store.set_uplink_gaps("works", "cloud", &[]).await.unwrap();
    assert_eq!(store.uplink_gaps("works", "cloud").await.unwrap(), []);
    assert_eq!(store.uplink_gaps("works", "historian").await.unwrap(), [gap(7, "age")]);
}

async fn uplinks_of_one_name_on_two_gateways_are_two(store: &Store) {
    // Of an uplink that never connected nothing is known, and a host that it heard of is not kept.
    store.set_host_known("works", "cloud", Some(5)).await.unwrap();
    assert_eq!(
        (store.bd_seq("works", "cloud").await.unwrap(), store.host_known("works", "cloud").await.unwrap()),
        (None, None)
    );
    for (gateway, bd_seq) in [("works", 255), ("office", 0), ("works", 0)] {
        store.set_bd_seq(gateway, "cloud", bd_seq).await.unwrap();
    }
    store.set_bd_seq("office", "cloud", 17).await.unwrap();
    store.set_host_known("works", "cloud", Some(u64::MAX)).await.unwrap();
    store.set_bd_seq("works", "cloud", 1).await.unwrap();
    assert_eq!(store.bd_seq("works", "cloud").await.unwrap(), Some(1));
    assert_eq!(store.host_known("works", "cloud").await.unwrap(), Some(u64::MAX), "a new session keeps it");
    assert_eq!(store.bd_seq("office", "cloud").await.unwrap(), Some(17));
    assert_eq!(store.host_known("office", "cloud").await.unwrap(), None);
    store.set_host_known("works", "cloud", None).await.unwrap();
    assert_eq!(store.host_known("works", "cloud").await.unwrap(), None);
}

async fn the_last_lifetime_of_a_commanded_value_counts(store: &Store) {
    let lifetime = |point: &str, due_at| {
        let commanded = Some("42.5".to_owned());
        CommandLifetime { device: "pump".to_owned(), point: point.to_owned(), due_at, commanded }
    };
    for (point, due_at) in
        [("speed", Some(10)), ("mode", Some(20)), ("speed", Some(30)), ("mode", None), ("mode", None)]
    {
        let due = due_at.map(|due_at| (due_at, Some("42.5")));
        store.set_command_lifetime("works", ("pump", point), due).await.unwrap();
    }
    assert_eq!(store.command_lifetimes("works").await.unwrap(), [lifetime("speed", 30)]);
    assert_eq!(store.command_lifetimes("office").await.unwrap(), []);
}

async fn a_frozen_database_holds_nobody_up(database: &Database, store: &Store) {
    store.ping().await.unwrap();
    let nobody = holder("north", "6");
    database.freeze(true);
    // Its threads stop one after the other.
    while store.ping().await.is_ok() {}
    let asked = tokio::join!(store.ping(), store.command_lifetimes("works"), store.renew_lease(&nobody, LONG));
    database.freeze(false);
    let slow = [asked.0.map(drop), asked.1.map(drop), asked.2.map(drop)];
    assert!(slow.iter().all(|told| matches!(told, Err(StoreError::Slow | StoreError::Database(_)))), "{slow:?}");
    let back = async { while store.ping().await.is_err() {} };
    tokio::time::timeout(Duration::from_secs(30), back).await.unwrap();
    assert_eq!(store.command_lifetimes("works").await.unwrap().len(), 1, "nothing of it is broken");
}

async fn entries_that_waited_are_stored_once_and_in_order(database: &mut Database, store: &Store) {
    let trail = AuditTrail::new(store.clone());
    let entry = |at| AuditEntry { at, person: "ada", action: "write", gateway: "trail", ..AuditEntry::default() };
    trail.add(&entry(0)).await.unwrap();
    database.kill().await;
    for at in 1..=40 {
        assert!(trail.add(&entry(at)).await.is_err(), "whoever needs it on record finds out that it is not");
    }
    assert_eq!((trail.waiting(), trail.is_there().await), (40, false));
    database.restart().await.unwrap();
    let back = async { while !trail.is_there().await {} };
    tokio::time::timeout(Duration::from_secs(60), back).await.unwrap();
    // The service stores what waits, and so do two people who write in this moment; another entry comes meanwhile.
    let another = entry(41);
    let told = tokio::join!(trail.flush(), trail.flush(), trail.flush(), trail.add(&another));
    for stored in [told.0, told.1, told.2] {
        stored.unwrap();
    }
    trail.flush().await.unwrap();
    let filter = AuditFilter { gateway: Some("trail".to_owned()), limit: 100, ..AuditFilter::default() };
    let stored: Vec<_> = store.audit(&filter).await.unwrap().iter().rev().map(|record| record.at).collect();
    assert_eq!((trail.waiting(), stored), (0, (0..=41).collect()));
}
