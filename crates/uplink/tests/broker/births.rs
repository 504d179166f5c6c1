//! What of a device comes before its birth, in it and after it, and types that the device tells.

use crate::rig::{Host, Rig, UP, at, database};
use interlex_core::{DataType, SampleKind, UplinkState, Value};

#[tokio::test(flavor = "multi_thread")]
async fn before_its_birth_events_and_the_newest_usable_value_of_a_device_are_kept_and_follow() {
    let mut rig = Rig::new("level,holding:0,uint16\nfeed,holding:1,uint16\nbreaker,holding:2,uint16", None).await;
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    let (current, event) = (SampleKind::Current, SampleKind::Event);
    let value = |value| Some(Value::Uint(value));
    // A breaker tells two changes of the past hour; the level is read twice, and a third time in vain.
    run.tell([rig.sample("breaker", value(1), 10, event), rig.sample("breaker", value(0), 20, event)]).await;
    run.tell([rig.sample("level", value(7), 30, current), rig.sample("level", value(8), 40, current)]).await;
    run.tell([rig.sample("level", None, 50, current), rig.sample("feed", value(3), 60, current)]).await;
    run.events.send(UP).await.unwrap();
    let told = host.until("DBIRTH tank level:UInt16=null feed:UInt16=Uint(3) @60 breaker:UInt16=Uint(0) @20").await;
    assert_eq!(told.len(), 1, "nothing comes before the birth: {told:?}");
    // What the birth told is not told again, but for events: each change of a breaker counts.
    let follows =
        "DDATA tank breaker=Uint(1) @10 historical breaker=Uint(0) @20 historical level=Uint(8) @40 historical";
    assert_eq!(host.until(follows).await.len(), 1);
    // Had back from a memory of the device: never the newest.
    run.tell([rig.sample("feed", value(2), 35, SampleKind::Past), rig.sample("level", value(9), 70, current)]).await;
    let told = host.until("DDATA tank feed=Uint(2) @35 historical").await;
    assert_eq!(told, ["DDATA tank level=Uint(9) @70", "DDATA tank feed=Uint(2) @35 historical"]);
    // The clock of the breaker was set back: its newest change is historical, and follows as its state when it came.
    let mut late = rig.sample("breaker", value(1), 15, event);
    late.gateway_time = at(90);
    run.tell([late]).await;
    assert_eq!(host.until("DDATA tank breaker=Uint(1) @15 historical breaker=Uint(1) @90").await.len(), 1);
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_type_that_the_device_tells_is_announced_once_it_is_known_and_anew_when_it_changes() {
    let mut rig = Rig::new("level,holding:0,auto\nstate,holding:1,auto\nfeed,holding:2,uint16", None).await;
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.events.send(rig.retype(&[("level", DataType::Int32)])).await.unwrap();
    run.tell([rig.sample("level", Some(Value::Int(-4)), 10, SampleKind::Current)]).await;
    run.events.send(UP).await.unwrap();
    // Nobody knows the type of the state yet: it is announced as nothing rather than as something wrong.
    host.until("DBIRTH tank level:Int32=Int(-4) @10 feed:UInt16=null").await;
    run.events.send(rig.retype(&[("state", DataType::String(20))])).await.unwrap();
    host.until("DBIRTH tank level:Int32=Int(-4) @10 state:String=null feed:UInt16=null").await;
    run.tell([rig.sample("state", Some(Value::Text("auto".into())), 20, SampleKind::Current)]).await;
    host.until("DDATA tank state=Text(\"auto\") @20").await;
    // The programme of the controller is another one: its level is a float now.
    run.events.send(rig.retype(&[("level", DataType::Float32)])).await.unwrap();
    host.until("DBIRTH tank level:Float=null state:String=Text(\"auto\") @20 feed:UInt16=null").await;
    run.tell([rig.sample("level", Some(Value::Float32(2.5)), 30, SampleKind::Current)]).await;
    assert_eq!(host.until("DDATA tank level=Float(2.5) @30").await.len(), 1);
    // What waits through an outage and is of a type that the point has no more is lost, and counted; the rest arrives.
    run.until("the broker has both", |status| status.samples_delivered == 2).await;
    rig.broker.stop().await;
    run.until("it is offline", |status| status.state == UplinkState::Offline).await;
    run.tell([rig.sample("level", Some(Value::Float32(3.5)), 40, SampleKind::Current)]).await;
    run.tell([rig.sample("feed", Some(Value::Uint(6)), 50, SampleKind::Current)]).await;
    run.events.send(rig.retype(&[("level", DataType::Bool)])).await.unwrap();
    run.tell([rig.sample("level", Some(Value::Bool(true)), 60, SampleKind::Current)]).await;
    run.until("one is lost", |status| status.buffer.lost == 1).await;
    rig.broker.restart().await.unwrap();
    let told = host.until("DDATA tank feed=Uint(6) @50 historical level=Bool(true) @60 historical").await;
    assert!(told[0].starts_with("DBIRTH tank level:Boolean=Bool(true) @60 "), "{told:?}");
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_of_a_type_that_the_device_told_outlives_a_restart() {
    let (_directory, mut database, store) = database().await;
    let mut rig = Rig::new("level,holding:0,auto", Some(store.clone())).await;
    rig.broker.stop().await;
    let run = rig.run().await;
    run.events.send(rig.retype(&[("level", DataType::Int16)])).await.unwrap();
    run.tell((1..=3).map(|value| rig.sample("level", Some(Value::Int(value)), value * 10, SampleKind::Event))).await;
    run.until("all are on disk", |status| status.buffer.durable == 3).await;
    run.end().await;
    // Another start: what the device told is forgotten, and the device is away.
    let again = Rig::new("level,holding:0,auto", Some(store.clone())).await;
    let Rig { directory, broker, .. } = again;
    rig = Rig { uplink: again.uplink, points: again.points, latest: again.latest, inventory: again.inventory, ..rig };
    (rig.directory, rig.broker) = (directory, broker);
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("three wait", |status| status.buffer.waiting == 3 && status.state == UplinkState::Online).await;
    run.events.send(rig.retype(&[("level", DataType::Int16)])).await.unwrap();
    run.events.send(UP).await.unwrap();
    let told = host
        .until("DDATA tank level=Int(1) @10 historical level=Int(2) @20 historical level=Int(3) @30 historical")
        .await;
    assert_eq!(told[0], "DBIRTH tank level:Int16=null");
    run.until("none is lost", |status| (status.buffer.waiting, status.buffer.lost) == (0, 0)).await;
    run.end().await;
    rig.broker.stop().await;
    store.close().await;
    database.stop().await;
}
