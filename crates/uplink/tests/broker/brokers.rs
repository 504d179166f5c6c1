//! Several brokers: which one is used, and what becomes of what was on its way to the other.

use crate::rig::{Host, Rig, UP, level};
use interlex_core::{UplinkState, UplinkStatus};
use interlex_sidecar::{Broker, own_socket};
use std::collections::BTreeSet;

/// A second broker, and an uplink that goes there when the first is of no use.
async fn with_fallback(more: &str) -> (Rig, tempfile::TempDir, Broker) {
    let directory = tempfile::tempdir().unwrap();
    let other = Broker::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let settings = format!("fallbacks = \"mqtt://{}\"\n{more}", other.address());
    (Rig::with("level,holding:0,uint16", None, &settings).await, directory, other)
}

/// The levels in lines that a host heard.
fn levels(lines: &[String]) -> BTreeSet<u64> {
    let words = lines.iter().flat_map(|line| line.split([' ', '(', ')']).collect::<Vec<_>>());
    words.filter_map(|word| word.parse().ok()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn while_the_first_broker_is_away_the_next_is_used_and_nothing_is_lost() {
    let (mut rig, _directory, mut other) = with_fallback("return-after = \"1s\"\n").await;
    let (here, there) = (Host::start(rig.broker.address()).await, Host::start(other.address()).await);
    let run = rig.run().await;
    let is_at = |broker: &Broker| {
        let url = format!("mqtt://{}", broker.address());
        move |status: &UplinkStatus| status.url == url && status.state == UplinkState::Online
    };
    run.until("it is online at the first", is_at(&rig.broker)).await;
    run.tell([level(&rig, 1)]).await;
    run.events.send(UP).await.unwrap();
    here.until("DBIRTH tank level:UInt16=Uint(1) @1").await;
    here.until("DDATA tank level=Uint(1) @1 historical").await;
    rig.broker.kill().await;
    run.tell([level(&rig, 2)]).await;
    run.until("it is online at the second", is_at(&other)).await;
    there.until("DDATA tank level=Uint(2) @2 historical").await;
    run.tell([level(&rig, 3)]).await;
    there.until("DDATA tank level=Uint(3) @3").await;
    rig.broker.restart().await.unwrap();
    run.until("it is back at the first", is_at(&rig.broker)).await;
    let told = here.until("DBIRTH tank level:UInt16=Uint(3) @3").await;
    assert_eq!(told.len(), 1, "what the second has is not told to the first: {told:?}");
    run.tell([level(&rig, 4)]).await;
    here.until("DDATA tank level=Uint(4) @4").await;
    run.until("nothing waits", |status| (status.buffer.waiting, status.buffer.lost) == (0, 0)).await;
    assert_eq!(there.node.lock().unwrap().last().map(String::as_str), Some("NDEATH"), "it took its leave there");
    run.end().await;
    rig.broker.stop().await;
    other.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_broker_took_in_and_never_proved_comes_again_at_the_next() {
    let (mut rig, _directory, mut other) = with_fallback("keep-alive = \"5s\"\n").await;
    let (here, there) = (Host::start(rig.broker.address()).await, Host::start(other.address()).await);
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.events.send(UP).await.unwrap();
    here.until("DBIRTH tank level:UInt16=null").await;
    run.tell([level(&rig, 1001)]).await;
    here.until("DDATA tank level=Uint(1001) @1001").await;
    rig.broker.freeze(true);
    // The line takes everything in, and nobody reads it.
    for value in 1002..1200 {
        run.tell([level(&rig, value)]).await;
    }
    let mut told = there.until("level=Uint(1199) @1199 historical").await;
    run.until("nothing waits", |status| (status.buffer.waiting, status.buffer.lost) == (0, 0)).await;
    told.retain(|line| line.starts_with("DDATA"));
    let wanted: BTreeSet<_> = (1002..1200).collect();
    assert!(levels(&told).is_superset(&wanted), "{:?} are missing", wanted.difference(&levels(&told)));
    rig.broker.freeze(false);
    run.end().await;
    rig.broker.stop().await;
    other.stop().await;
}
