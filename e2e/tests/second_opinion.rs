//! What goes over the wires, as tshark reads it: client and server of ours may agree on a mistake, tshark does not.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Relay, Rig, wait_for};
use std::fs;
use std::path::Path;

#[tokio::test(flavor = "multi_thread")]
async fn tshark_reads_our_modbus_and_our_mqtt_as_we_mean_them() {
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let (field, broker) = (Relay::start(rig.plant_port()).await, Relay::start(rig.broker.port()).await);
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = fs::read_to_string(&main).unwrap();
    let text = text.replace(&rig.plant_port().to_string(), &field.port().to_string());
    fs::write(&main, text.replace(&rig.broker.port().to_string(), &broker.port().to_string())).unwrap();
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "through relays"]).await;
    assert_eq!(applied.code, 0, "{}", applied.err);
    rig.until("all points are good", |status| status["gateways"][0]["points_good"] == 36).await;
    wait_for("traffic", || async { (field.pieces() > 200 && broker.pieces() > 60).then_some(()) }).await;

    let scratch = tempfile::tempdir().unwrap();
    let fields = ["mbtcp.unit_id", "modbus.func_code", "modbus.reference_num", "modbus.word_cnt"];
    let requests = field.tshark(scratch.path(), 502, "tcp.dstport == 502 && modbus", &fields).await;
    assert!(requests.len() > 50, "{}", requests.len());
    // Unit, function, address, quantity: what the point lists make of a digester and of the analyser.
    for wanted in ["1 4 0 1", "1 4 2 2", "2 3 100 2", "3 4 0 5", "3 4 8 3", "3 4 30 2"] {
        assert!(requests.iter().any(|request| request == wanted), "{wanted} in {requests:?}");
    }
    let strange = field.tshark(scratch.path(), 502, "_ws.malformed || modbus.exception_code", &["frame.number"]).await;
    assert_eq!(strange, Vec::<String>::new());

    let fields = [
        "mqtt.conflag.willflag",
        "mqtt.conflag.qos",
        "mqtt.conflag.retain",
        "mqtt.conflag.cleansess",
        "mqtt.willtopic",
    ];
    let connects = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 1", &fields).await;
    assert_eq!(connects, ["1 1 0 1 spBv1.0/alderfen/NDEATH/works-1"]);
    let order = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 8 || mqtt.msgtype == 3", &["mqtt.topic"]).await;
    assert_eq!(order[0], "spBv1.0/alderfen/NCMD/works-1", "subscribed before anything is published");
    assert!(order[1].starts_with("spBv1.0/alderfen/NBIRTH/works-1"), "{order:?}");
    let published = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 3", &["mqtt.qos", "mqtt.retain"]).await;
    let flags: Vec<_> = published.iter().flat_map(|line| line.split([',', ' '])).collect();
    assert!(flags.len() > 20 && flags.iter().all(|flag| *flag == "0"), "QoS 0 and not retained: {flags:?}");
    let broken = broker.tshark(scratch.path(), 1883, "_ws.malformed", &["frame.number"]).await;
    assert_eq!(broken, Vec::<String>::new());
}
