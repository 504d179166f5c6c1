//! From a register to the broker: what arrives is what the plant's registers say.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Host, Rig, wait_for};
use std::collections::HashMap;

/// The number that a word of the analyser's sample point stands for.
fn number_of(word: &str) -> f64 {
    let words = ["digester 1", "digester 2", "gas holder"];
    words.iter().zip(0_u8..).find(|(known, _)| **known == word).map_or(f64::NAN, |(_, number)| number.into())
}

#[tokio::test(flavor = "multi_thread")]
async fn registers_arrive_at_the_broker_as_named_values_with_units() {
    let rig = Rig::start().await;
    let host = Host::listen(rig.broker.address()).await;
    rig.set_plant_running(false).await;
    let truth = rig.truth().await;
    // The slowest rate is ten seconds: after it, every value is that of the frozen plant.
    wait_for("every point shows the plant's truth", || async {
        let points = rig.get("/api/v1/points").await;
        let right = points.as_array()?.iter().filter(|point| {
            let said = match &point["value"] {
                serde_json::Value::Bool(bit) => f64::from(u8::from(*bit)),
                serde_json::Value::String(word) => number_of(word),
                value => value.as_f64().unwrap_or(f64::NAN),
            };
            let true_value =
                truth[point["device"].as_str().unwrap()][point["name"].as_str().unwrap()].as_f64().unwrap();
            (said - true_value).abs() <= true_value.abs() * 1e-6
        });
        (right.count() == 36).then_some(())
    })
    .await;

    host.ask_rebirth().await;
    let birth = host.hears("NBIRTH", 0, |message| message.kind == "NBIRTH").await;
    let last = host
        .hears("the analyser's DBIRTH", birth, |m| m.kind == "DBIRTH" && m.device.as_deref() == Some("gas-analyser"))
        .await;
    let births = host.all()[birth..=last].to_vec();
    let order: Vec<_> = births.iter().map(|message| (message.kind.as_str(), message.seq)).collect();
    assert_eq!(order, [("NBIRTH", Some(0)), ("DBIRTH", Some(1)), ("DBIRTH", Some(2)), ("DBIRTH", Some(3))]);
    let names: Vec<_> = births[0].metrics.iter().map(|metric| metric.name.as_deref().unwrap()).collect();
    assert_eq!(names[..3], ["bdSeq", "Node Control/Rebirth", "health/cpu"]);
    assert_eq!(names[names.len() - 2..], ["link/process-bus/up", "link/process-bus/lateness"]);
    let units: HashMap<_, _> = [("ch4", "%"), ("h2s", "ppm"), ("temperature", "°C"), ("feed-total", "kg")].into();
    for message in &births[1..] {
        let device = message.device.as_deref().unwrap();
        assert!(!message.retained);
        for metric in message.metrics.iter().filter(|metric| metric.name.as_deref() != Some("command/result")) {
            let name = metric.name.as_deref().unwrap();
            let wanted = truth[device][name].as_f64().unwrap();
            let got = metric.value.or_else(|| metric.text.as_deref().map(number_of));
            let got = got.unwrap_or_else(|| panic!("{device} {name} has no value"));
            assert!((got - wanted).abs() <= wanted.abs() * 1e-6, "{device} {name}: {got} for {wanted}");
            assert_eq!(metric.properties["Quality"], "192", "{device} {name}");
            if let Some(unit) = units.get(name) {
                assert_eq!(metric.properties["unit"], *unit, "{device} {name}");
            }
        }
    }
    let points: usize = births[1..].iter().map(|message| message.metrics.len()).sum();
    // The devices that take commands tell what became of the last one, too.
    assert_eq!(points, 36 + 3);

    // Data comes by alias, in the order of seq, of metrics that a birth has named.
    let aliases: HashMap<_, _> =
        births[1..].iter().flat_map(|m| &m.metrics).map(|m| (m.alias.unwrap(), m.name.clone())).collect();
    rig.set_plant_running(true).await;
    let data = host.hears("DDATA", last, |message| message.kind == "DDATA").await;
    host.hears("more data", data + 20, |message| message.kind == "DDATA").await;
    let all = host.all();
    for (before, after) in all[birth..].iter().zip(&all[birth + 1..]) {
        assert_eq!(after.seq.unwrap(), (before.seq.unwrap() + 1) % 256);
    }
    for metric in all[data..].iter().flat_map(|message| &message.metrics) {
        assert!(metric.name.is_none() && metric.datatype.is_none() && aliases.contains_key(&metric.alias.unwrap()));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_shows_what_runs_what_is_read_and_what_arrives() {
    let rig = Rig::start().await;
    let status = rig.interlex(&["status"]).await;
    for word in ["gas-analyser", "process-bus", "online", "36 of 36 points good", "MariaDB"] {
        assert!(status.out.contains(word), "{word} in\n{}", status.out);
    }
    assert!(!status.out.contains('\u{1b}'), "no colours when it is no terminal");
    let csv = rig.interlex(&["points", "ch4", "--output", "csv"]).await;
    let mut lines = csv.out.lines();
    assert!(lines.next().unwrap().starts_with("id,device,name,value,unit,quality"));
    assert!(lines.next().unwrap().starts_with("alderfen-1/gas-analyser/ch4,gas-analyser,ch4,5"), "{}", csv.out);
    let tap = rig.interlex(&["tap", "--count", "3", "--output", "json"]).await;
    for line in tap.out.lines() {
        let message: serde_json::Value = serde_json::from_str(line).unwrap();
        assert_eq!(message["error"], serde_json::Value::Null, "{line}");
        assert!(message["topic"].as_str().unwrap().starts_with("spBv1.0/alderfen/"), "{line}");
    }
    assert_eq!(tap.out.lines().count(), 3);
    let watch = rig.interlex(&["watch", "gas-flow", "--count", "4"]).await;
    assert!(watch.out.lines().count() >= 3 && watch.out.contains("m³/h  good"), "{}", watch.out);
    assert_eq!(rig.interlex(&["points", "--quality", "rotten"]).await.code, 1);
    let elsewhere = rig.interlex(&["status", "--url", "http://127.0.0.1:9", "--token", "x"]).await;
    assert_eq!(elsewhere.code, 5, "{}", elsewhere.err);
    assert_eq!(rig.interlex(&["status", "--token", "wrong"]).await.code, 4);
    assert!(rig.interlex(&["completions", "bash"]).await.out.contains("_interlex"));
}
