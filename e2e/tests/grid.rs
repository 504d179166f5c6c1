//! A breaker that is told by its controller as it moves, and moved from here.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, Host, PASSWORD, PERSON, Program, Rig};
use interlex_sidecar::own_address;
use std::path::Path;
use std::process::Command;

const LIST: &str = "name,address,control,enumeration,rate,access\n\
                    breaker,double-bit:0,,0=between;1=open;2=closed;3=faulty,normal,\n\
                    breaker-command,binary-output:0,trip-close,,normal,read-write\n\
                    export-power,analog:3,,,normal,\n\
                    tap-set-point,analog-output:0,,,normal,read-write\n\
                    nowhere,binary:77,,,normal,\n";

fn device(status: &serde_json::Value) -> serde_json::Value {
    let links = status["gateways"][0]["links"].as_array().unwrap();
    links.iter().find(|link| link["name"] == "feeder").unwrap()["devices"][0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_breaker_is_told_as_it_moves_and_moved_by_select_and_operate() {
    let rig = Rig::start().await;
    let (host, home) = (own_address(), rig.home());
    let at = host.to_string();
    let start = || Program::start(&["plant", "--host", &at, "--grid-port", "20000"], &home);
    let mut plant = start();
    plant.says("The grid connection as DNP3 outstation 10").await;
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = std::fs::read_to_string(&main).unwrap();
    let (before, after) = text.split_once("[[uplink]]").unwrap();
    let own = format!(
        "[[link]]\nname = \"feeder\"\nprotocol = \"dnp3-tcp\"\nhost = \"{host}\"\ntimeout = \"1s\"\nreconnect-limit = \"1s\"\n\n\
         [[device]]\nname = \"grid\"\nlink = \"feeder\"\naddress = 10\nevent-period = \"1s\"\n\n"
    );
    std::fs::write(&main, format!("{before}{own}[[uplink]]{after}")).unwrap();
    std::fs::write(Path::new(&directory).join("points/grid.csv"), LIST).unwrap();
    let hosts = Host::listen(rig.broker.address()).await;
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "the grid"]).await;
    assert_eq!(applied.code, 0, "{applied:?}");
    hosts.hears("its birth", 0, |m| m.kind == "DBIRTH" && m.device.as_deref() == Some("grid")).await;
    rig.until("it says what is not there", |status| {
        device(status)["last_error"].as_str() == Some("outstation 10 has no binary:77")
    })
    .await;
    let value = async |point: &str| {
        let points = rig.interlex(&["points", "grid", "-o", "csv"]).await;
        points.out.lines().find(|row| row.contains(&format!(",{point},"))).unwrap_or_default().to_owned()
    };
    assert!(value("breaker").await.contains("closed"), "{}", value("breaker").await);
    assert!(value("nowhere").await.contains("bad,offline"), "{}", value("nowhere").await);

    // It trips, and every step of that arrives: on its way, and open.
    let written = rig.interlex(&["write", "grid", "breaker-command", "false"]).await;
    assert!(written.code == 0 && written.out.contains("accepted: the outstation says success"), "{written:?}");
    for word in ["between", "open"] {
        hosts
            .hears(word, 0, |m| {
                let is_grid = m.kind == "DDATA" && m.device.as_deref() == Some("grid");
                is_grid && m.metrics.iter().any(|metric| metric.text.as_deref() == Some(word))
            })
            .await;
    }
    it_is_followed_in_the_browser(&rig).await;
    let again = rig.interlex(&["write", "grid", "breaker-command", "true"]).await;
    assert!(again.code == 1 && again.err.contains("the point is in that state already"), "{again:?}");
    let set = rig.interlex(&["write", "grid", "tap-set-point", "6"]).await;
    assert!(set.code == 0 && set.out.contains("confirmed"), "{set:?}");
    let trial = rig.interlex(&["trial", "read", "grid", "analog-output:0", "-o", "json"]).await;
    let trial: serde_json::Value = serde_json::from_str(&trial.out).unwrap();
    assert_eq!((trial["value"].as_f64(), trial["shared_connection"].as_bool()), (Some(6.0), Some(true)), "{trial}");
    let offered = rig.interlex(&["offers", "points", "--device", "grid", "--pick", "counter*", "--to-draft"]).await;
    assert!(offered.code == 0 && offered.out.contains("points/grid.csv: 2 added"), "{offered:?}");

    // Another program reads what went over the line.
    let file = home.join("feeder.pcapng").display().to_string();
    assert_eq!(rig.interlex(&["frames", "feeder", "--save", &file]).await.code, 0);
    let tshark = |wanted: &str| {
        let out = Command::new("tshark").args(["-r", &file, "-Y", wanted]).output().unwrap();
        String::from_utf8(out.stdout).unwrap()
    };
    assert!(tshark("dnp3.al.func == 4").contains("Operate"), "{}", tshark("dnp3"));
    assert_eq!(tshark("_ws.malformed || dnp.hdr.CRC.status == 0 || dnp.data_chunk.CRC.status == 0"), "");

    // The controller goes and comes back; its restart is taken note of, and everything is there again.
    plant.kill().await;
    rig.until("it is away", |status| device(status)["state"] == "unreachable").await;
    plant = start();
    rig.until("it is back", |status| device(status)["state"] == "up").await;
    assert!(value("breaker").await.contains("closed"), "{}", value("breaker").await);
    assert_eq!(plant.interrupt().await, 0);
}

/// The page of events has what happened, and what happens while one looks.
async fn it_is_followed_in_the_browser(rig: &Rig) {
    let browser = Browser::start().await;
    browser.sign_in(&rig.url, PERSON, PASSWORD).await;
    browser.open("Events").await;
    browser.shows("Live: 3 events").await;
    let text = browser.text().await;
    assert!(text.contains("between") && text.contains("open") && !text.contains("closed"), "{text}");
    let written = rig.interlex(&["write", "grid", "breaker-command", "true"]).await;
    assert_eq!(written.code, 0, "{written:?}");
    browser.shows("Live: 6 events").await;
    browser.shows("closed").await;
    browser.picture("events").await;
    browser.close().await;
}
