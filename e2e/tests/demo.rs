//! The demo as a newcomer starts it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Host, PASSWORD, PERSON, Program, run, wait_for};
use interlex_sidecar::{is_free, own_address};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;

/// The ports of a demo.
fn ports(host: Ipv4Addr) -> impl Iterator<Item = SocketAddr> {
    (7400..7407).map(move |port| (host, port).into())
}

/// Names the administrator of a demo, signs the client in, and points an uplink to a broker that is none of the demo's.
async fn point_elsewhere(demo: &Program, home: &Path, url: &str, description: &str) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let code = demo.said().split_once("code=").unwrap().1.split_whitespace().next().unwrap().to_owned();
    let body = serde_json::json!({ "code": code, "name": PERSON, "password": PASSWORD });
    let answer = reqwest::Client::new().post(format!("{url}/api/v1/setup")).json(&body).send().await.unwrap();
    assert_eq!(answer.status(), 201);
    let arguments = ["sign-in", url, "--name", PERSON, "--password-stdin"];
    assert_eq!(run(&arguments, home, &format!("{PASSWORD}\n")).await.code, 0);
    let exported = run(&["config", "export", description], home, "").await;
    assert_eq!(exported.code, 0, "{exported:?}");
    let main = Path::new(description).join("gateway.toml");
    let text = std::fs::read_to_string(&main).unwrap();
    let (before, after) = text.split_once("name = \"notices\"").unwrap();
    let ours = after.lines().find(|line| line.starts_with("url = ")).unwrap();
    std::fs::write(&main, format!("{before}name = \"notices\"{}", after.replace(ours, ELSEWHERE))).unwrap();
    let arguments = ["config", "apply", description, "--activate", "--note", "elsewhere", "--wait", "1s"];
    let applied = run(&arguments, home, "").await;
    assert!([0, 7].contains(&applied.code), "{applied:?}");
}

/// Where nobody listens.
const ELSEWHERE: &str = "url = \"mqtt://127.0.0.1:9\"";

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_starts_stops_in_order_and_keeps_its_data() {
    let directory = tempfile::tempdir().unwrap();
    let (home, data) = (directory.path().join("home"), directory.path().join("demo").display().to_string());
    let first = own_address();
    let host = first.to_string();
    let arguments = ["demo", "--data-dir", &data, "--host", &host];

    let mut demo = Program::start(&arguments, &home);
    demo.says("Ctrl-C stops everything.").await;
    for word in ["MariaDB on port", "Mosquitto on port", "/setup?code=", "interlex sign-in"] {
        assert!(demo.said().contains(word), "{word} in\n{}", demo.said());
    }
    let taken = run(&arguments, &home, "").await;
    assert_eq!(taken.code, 1);
    assert!(
        taken.err.contains(&format!("taken on {first}: port 7400 (console), 7401 (database)"))
            && taken.err.contains("--ports-from"),
        "{}",
        taken.err
    );

    let description = directory.path().join("description").display().to_string();
    point_elsewhere(&demo, &home, &format!("http://{first}:7400"), &description).await;

    let host = Host::listen((first, 7402).into()).await;
    host.hears("data", 0, |m| m.kind == "DDATA").await;
    assert_eq!(demo.interrupt().await, 0, "{}", demo.said());
    assert!(demo.said().contains("deaths published, journal flushed"), "{}", demo.said());
    assert!(host.all().iter().any(|m| m.kind == "NDEATH"), "the death arrived before the broker stopped");

    // A later start moves to other places, and the description with it.
    // Killed, it takes its database and its broker with it: nothing is left that holds a port.
    let mut demo = Program::start(&arguments, &home);
    demo.says("Ctrl-C stops everything.").await;
    demo.kill().await;
    wait_for("all ports are free", || async { ports(first).all(is_free).then_some(()) }).await;

    let second = own_address();
    let moved = ["demo", "--data-dir", &data, "--host", &second.to_string(), "--ports-from", "7500"];
    let mut demo = Program::start(&moved, &home);
    demo.says("Ctrl-C stops everything.").await;
    let host = Host::listen((second, 7502).into()).await;
    host.hears("data at the new port", 0, |m| m.kind == "DDATA").await;
    // Its certificate is for the new address: another one, which the demo has looked at.
    host.hears("the engine, too", 0, |m| m.kind == "DDATA" && m.device.as_deref() == Some("engine")).await;
    // Controllers are found by who answers, wherever that is now.
    host.hears("the heating, too", 0, |m| m.kind == "DDATA" && m.device.as_deref() == Some("heat-network")).await;
    // What was pointed elsewhere stays there.
    let url = format!("http://{second}:7500");
    assert_eq!(
        run(&["sign-in", &url, "--name", PERSON, "--password-stdin"], &home, &format!("{PASSWORD}\n")).await.code,
        0
    );
    let exported = run(&["config", "export", &description, "--update"], &home, "").await;
    assert_eq!(exported.code, 0, "{exported:?}");
    let text = std::fs::read_to_string(Path::new(&description).join("gateway.toml")).unwrap();
    assert!(text.contains(ELSEWHERE) && text.contains(&format!("url = \"mqtt://{second}:7502\"")), "{text}");
    assert!(text.contains(&format!("host = \"{second}\"\nport = 7503")), "{text}");
    assert_eq!(demo.interrupt().await, 0, "{}", demo.said());
}
