//! The demo as a newcomer starts it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Host, Program, free_ports, run, wait_for};
use interlex_sidecar::is_port_free;

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_starts_stops_in_order_and_keeps_its_data() {
    let directory = tempfile::tempdir().unwrap();
    let (home, data) = (directory.path().join("home"), directory.path().join("demo").display().to_string());
    let first = free_ports(5);
    let ports = first.to_string();
    let arguments = ["demo", "--data-dir", &data, "--ports-from", &ports];

    let mut demo = Program::start(&arguments, &home);
    demo.says("Ctrl-C stops everything.").await;
    for word in ["MariaDB on port", "Mosquitto on port", "/setup?code=", "interlex sign-in"] {
        assert!(demo.said().contains(word), "{word} in\n{}", demo.said());
    }
    let taken = run(&arguments, &home, "").await;
    assert_eq!(taken.code, 1);
    assert!(
        taken.err.contains(&format!("port {first} (console)")) && taken.err.contains("--ports-from"),
        "{}",
        taken.err
    );

    let host = Host::listen(first + 2).await;
    host.hears("data", 0, |m| m.kind == "DDATA").await;
    assert_eq!(demo.interrupt().await, 0, "{}", demo.said());
    assert!(demo.said().contains("deaths published, journal flushed"), "{}", demo.said());
    assert!(host.all().iter().any(|m| m.kind == "NDEATH"), "the death arrived before the broker stopped");

    // A later start moves to other ports, and the description with it.
    // Killed, it takes its database and its broker with it: nothing is left that holds a port.
    let mut demo = Program::start(&arguments, &home);
    demo.says("Ctrl-C stops everything.").await;
    demo.kill().await;
    wait_for("all ports are free", || async { (first..first + 5).all(is_port_free).then_some(()) }).await;

    let second = free_ports(5);
    let moved = ["demo", "--data-dir", &data, "--ports-from", &second.to_string()];
    let mut demo = Program::start(&moved, &home);
    demo.says("Ctrl-C stops everything.").await;
    let host = Host::listen(second + 2).await;
    host.hears("data at the new port", 0, |m| m.kind == "DDATA").await;
    assert_eq!(demo.interrupt().await, 0, "{}", demo.said());
}
