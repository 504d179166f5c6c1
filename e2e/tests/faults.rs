//! Plugs are pulled and put back: the service stays up, says what is wrong, and recovers by itself.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Host, Rig, wait_for};
use serde_json::Value;

fn device<'a>(status: &'a Value, name: &str) -> &'a Value {
    let devices = status["gateways"][0]["links"][0]["devices"].as_array().unwrap();
    devices.iter().find(|device| device["name"] == name).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_device_dies_at_the_broker_and_is_born_again() {
    let rig = Rig::start().await;
    let host = Host::listen(rig.broker.address()).await;
    rig.fault("gas-analyser", "silent", true).await;
    rig.until("the analyser is silent", |status| device(status, "gas-analyser")["state"] == "silent").await;
    let points = rig.get("/api/v1/points?device=gas-analyser").await;
    for point in points.as_array().unwrap() {
        assert_eq!((point["quality"].as_str(), point["reason"].as_str()), (Some("bad"), Some("timeout")), "{point}");
        assert_ne!(point["value"], Value::Null, "the last known value stays");
    }
    let of_analyser = |kind: &'static str| {
        move |m: &interlex_e2e::Arrived| m.kind == kind && m.device.as_deref() == Some("gas-analyser")
    };
    let death = host.hears("DDEATH", 0, of_analyser("DDEATH")).await;
    assert_eq!(device(&rig.status().await, "digester-1")["state"], "up", "its neighbours go on");
    rig.fault("gas-analyser", "silent", false).await;
    let birth = host.hears("DBIRTH", death, of_analyser("DBIRTH")).await;
    assert!(
        host.all()[death + 1..birth].iter().all(|m| m.device.as_deref() != Some("gas-analyser")),
        "nothing in between"
    );
    rig.until("all points are good again", |status| status["gateways"][0]["points_good"] == 36).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_refused_register_spoils_only_its_own_point() {
    let rig = Rig::start().await;
    rig.fault("gas-analyser", "wrong-register", true).await;
    rig.until("one point is bad", |status| status["gateways"][0]["points_good"] == 35).await;
    let points = rig.get("/api/v1/points?quality=bad").await;
    assert_eq!(points[0]["name"], "ch4");
    assert_eq!(points[0]["reason"], "device exception 02, illegal data address");
    assert_eq!(device(&rig.status().await, "gas-analyser")["state"], "up");
    rig.fault("gas-analyser", "wrong-register", false).await;
    rig.until("it heals", |status| status["gateways"][0]["points_good"] == 36).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn plant_broker_and_database_can_go_and_come_back() {
    let mut rig = Rig::start().await;

    rig.plant.kill().await;
    rig.until("the link is down", |status| status["gateways"][0]["links"][0]["state"] == "down").await;
    let points = rig.get("/api/v1/points").await;
    assert!(points.as_array().unwrap().iter().all(|point| point["reason"] == "link down"));
    rig.restart_plant();
    rig.until("the link is back", |status| status["gateways"][0]["points_good"] == 36).await;

    rig.broker.stop().await;
    rig.until("the uplink is offline", |status| status["gateways"][0]["uplinks"][0]["state"] == "offline").await;
    rig.until("samples are kept", |status| {
        status["gateways"][0]["uplinks"][0]["buffer"]["waiting"].as_u64() > Some(20)
    })
    .await;
    rig.broker.restart().await.unwrap();
    let host = Host::listen(rig.broker.address()).await;
    rig.until("the uplink is back", |status| status["gateways"][0]["uplinks"][0]["state"] == "online").await;
    host.hears("samples of the outage", 0, |m| m.metrics.iter().any(|metric| metric.is_historical)).await;
    rig.until("few wait", |status| status["gateways"][0]["uplinks"][0]["buffer"]["waiting"].as_u64() < Some(20)).await;
    assert_eq!(rig.status().await["gateways"][0]["uplinks"][0]["buffer"]["lost"], 0);
    let settled = wait_for("both outages are written down", || async {
        let outages = rig.get("/api/v1/outages").await;
        let is_over = |name: &str| {
            let of = |outage: &&Value| outage["name"] == name && outage["settled"] == true;
            outages.as_array().unwrap().iter().find(of).cloned()
        };
        Some((is_over("process-bus")?, is_over("cloud")?))
    });
    let (link, uplink) = settled.await;
    assert_eq!((&link["kind"], &link["kept"]), (&"link".into(), &Value::Null));
    let lasted = |outage: &Value| outage["to"].as_i64().unwrap() - outage["from"].as_i64().unwrap();
    assert!(lasted(&link) > 0 && lasted(&uplink) > 0, "{link} {uplink}");
    assert!(
        uplink["kept"].as_u64() > Some(20) && uplink["sent_later"] == uplink["kept"] && uplink["lost"] == 0,
        "{uplink}"
    );
    let csv = rig.interlex(&["outages", "--kind", "uplink", "-o", "csv"]).await;
    assert!(csv.out.contains(",uplink,cloud,alderfen-1,"), "{csv:?}");

    rig.database.kill().await;
    rig.until("the database is away", |status| status["database"]["up"] == false).await;
    let before = host.all().len();
    host.hears("publishing goes on", before + 5, |m| m.kind == "DDATA").await;
    let (code, problem) =
        rig.post("/api/v1/gateways/alderfen-1/activations", &serde_json::json!({ "version": 1, "note": "x" })).await;
    assert_eq!((code, problem["type"].as_str()), (503, Some("database-away")), "{problem}");
    let files = rig.get("/api/v1/gateways/alderfen-1/files").await;
    assert!(files["files"]["gateway.toml"].is_string(), "what runs can be read all the same: {files}");
    rig.database.restart().await.unwrap();
    rig.until("the database is back", |status| status["database"]["up"] == true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_restart_the_service_goes_on_where_it_was() {
    let mut rig = Rig::start().await;
    let host = Host::listen(rig.broker.address()).await;
    let bd_seq = rig.status().await["gateways"][0]["uplinks"][0]["bd_seq"].as_u64().unwrap();
    let counted = |status: &Value| {
        let uplink = &status["gateways"][0]["uplinks"][0];
        (uplink["counted_since"].as_i64().unwrap(), uplink["samples_delivered"].as_u64().unwrap())
    };
    rig.until("something is delivered, and counted", |status| counted(status).1 > 0).await;
    let before = counted(&rig.status().await);
    assert_eq!(rig.service.interrupt().await, 0, "{}", rig.service.said());
    let death = host.hears("NDEATH", 0, |m| m.kind == "NDEATH").await;
    assert_eq!(host.all()[death].metrics[0].value, Some(bd_seq as f64));
    rig.restart_service().await;
    rig.until("it runs again", |status| status["gateways"][0]["points_good"] == 36).await;
    let birth = host.hears("NBIRTH", death, |m| m.kind == "NBIRTH").await;
    assert_eq!(host.all()[birth].metrics[0].value, Some(bd_seq as f64 + 1.0), "bdSeq goes on");
    rig.until("what was counted goes on", |status| {
        let (since, delivered) = counted(status);
        since == before.0 && delivered > before.1
    })
    .await;
    // A kill is a power cut: the broker publishes the will.
    rig.service.kill().await;
    host.hears("the will", birth, |m| m.kind == "NDEATH").await;
}
