//! The controllers of a heat network and a boiler house, found by asking who is there: from an empty list to a set point from the broker.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Arrived, Browser, Host, PASSWORD, PERSON, Program, Rig, float, named, null, wait_for};
use interlex_sidecar::own_address;
use serde_json::Value;
use std::path::Path;
use std::process::Command;

fn link(status: &Value) -> &Value {
    let links = status["gateways"][0]["links"].as_array().unwrap();
    links.iter().find(|link| link["name"] == "building").unwrap()
}

fn is_up(status: &Value, device: usize) -> bool {
    link(status)["devices"][device]["state"] == "up"
}

/// The value that a message brings of a point, by its name or the alias that its birth gave it.
fn brings(message: &Arrived, aliases: &[(String, u64)], point: &str) -> Option<f64> {
    let alias = aliases.iter().find(|(name, _)| name == point).map(|(_, alias)| *alias);
    let metric = message.metrics.iter().find(|metric| metric.name.as_deref() == Some(point) || metric.alias == alias);
    let is_told = message.kind == "DDATA" && message.device.as_deref() == Some("heat-network");
    metric?.value.filter(|_| is_told)
}

#[tokio::test(flavor = "multi_thread")]
async fn controllers_are_found_watched_commanded_and_given_back() {
    let rig = Rig::start().await;
    let (host, ours, home) = (own_address(), own_address(), rig.home());
    let at = host.to_string();
    let start = || Program::start(&["plant", "--host", &at, "--heating-port", "47808"], &home);
    let mut plant = start();
    plant.says("The heating as BACnet devices 4001 and 4002").await;
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = std::fs::read_to_string(&main).unwrap();
    let (before, after) = text.split_once("[[uplink]]").unwrap();
    let own = format!(
        "[[link]]\nname = \"building\"\nprotocol = \"bacnet-ip\"\ninterface = \"{ours}\"\nbbmd = \"{host}:47808\"\ntimeout = \"1s\"\n\n\
         [[device]]\nname = \"heat-network\"\nlink = \"building\"\ninstance = 4001\npriority = 12\n\n\
         [[device]]\nname = \"boiler-house\"\nlink = \"building\"\ninstance = 4002\nnetwork = 5\n\n"
    );
    std::fs::write(&main, format!("{before}{own}[[uplink]]{after}")).unwrap();
    for device in ["heat-network", "boiler-house"] {
        std::fs::write(Path::new(&directory).join(format!("points/{device}.csv")), "name,address,rate\n").unwrap();
    }
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "the building"]).await;
    assert_eq!(applied.code, 0, "{applied:?}");

    // Who is there, and what do they have?
    let found = rig.interlex(&["offers", "devices", "--link", "building"]).await;
    assert!(found.out.contains("instance 4001") && found.out.contains("at network 5 station 0c by"), "{found:?}");
    for (device, added) in [("heat-network", "12 added"), ("boiler-house", "7 added")] {
        let objects = ["offers", "objects", "--device", device, "--case", "kebab", "--to-draft"];
        let offered = rig.interlex(&objects).await;
        assert!(offered.code == 0 && offered.out.contains(added), "{offered:?}");
    }
    let hosts = Host::listen(rig.broker.address()).await;
    let activated = rig.interlex(&["draft", "activate", "--note", "their objects"]).await;
    assert_eq!(activated.code, 0, "{activated:?}");
    let is_birth = |m: &Arrived| m.kind == "DBIRTH" && m.device.as_deref() == Some("heat-network");
    let born = hosts.hears("its birth", 0, |m| is_birth(m) && m.metrics.len() >= 12).await;
    let birth = hosts.all().swap_remove(born);
    let aliases: Vec<_> = birth.metrics.iter().filter_map(|m| Some((m.name.clone()?, m.alias?))).collect();
    let set_point = birth.metrics.iter().find(|m| m.name.as_deref() == Some("flow-set-point")).unwrap();
    assert_eq!(set_point.properties.get("unit").map(String::as_str), Some("°C"), "{set_point:?}");
    let value = async |point: &str| {
        let points = rig.interlex(&["points", "-o", "csv"]).await;
        points.out.lines().find(|row| row.contains(&format!(",{point},"))).unwrap_or_default().to_owned()
    };
    for (point, said) in [("flow-temperature", "°C,good"), ("gas-pressure", "mbar,good"), ("mode", "good")] {
        wait_for(point, || async { value(point).await.contains(said).then_some(()) }).await;
    }

    lists_and_siblings(&rig, &home).await;

    // A set point from the broker; the network becomes colder.
    hosts.command("heat-network", &[named("flow-set-point"), float(45.0)]).await;
    let set = hosts.hears("the set point", born, |m| brings(m, &aliases, "flow-set-point") == Some(45.0)).await;
    let is_colder = |m: &Arrived| brings(m, &aliases, "flow-temperature").is_some_and(|now| now < 69.0);
    hosts.hears("what it did", set, is_colder).await;
    let trial = rig.interlex(&["trial", "read", "heat-network", "analog-value:1"]).await;
    assert!(trial.out.contains("12: 45"), "who holds what: {trial:?}");
    // Given back, the controller's own goes on.
    hosts.command("heat-network", &[named("flow-set-point"), null()]).await;
    hosts.hears("its own", set, |m| brings(m, &aliases, "flow-set-point") == Some(72.0)).await;
    it_is_relinquished_in_the_browser(&rig).await;

    // Another program reads what went over the network.
    let file = home.join("building.pcapng").display().to_string();
    assert_eq!(rig.interlex(&["frames", "building", "--save", &file]).await.code, 0);
    let tshark = |wanted: &str| {
        let out =
            Command::new("tshark").args(["-r", &file, "-d", "udp.port==47808,bvlc", "-Y", wanted]).output().unwrap();
        String::from_utf8(out.stdout).unwrap()
    };
    assert!(tshark("bacapp.confirmed_service == 15").contains("writeProperty"), "{}", tshark("bacapp"));
    assert!(tshark("bacapp.confirmed_service == 5").contains("subscribeCOV"), "{}", tshark("bacapp"));
    assert_eq!(tshark("_ws.malformed"), "");

    // They go and come back, and are watched again.
    plant.kill().await;
    rig.until("both are away", |status| (0..2).all(|device| link(status)["devices"][device]["state"] == "silent"))
        .await;
    plant = start();
    rig.until("both are back", |status| is_up(status, 0) && is_up(status, 1)).await;
    wait_for("and good", || async { value("flow-temperature").await.contains("°C,good").then_some(()) }).await;
    assert_eq!(plant.interrupt().await, 0);
}

/// What one has goes out as a list that is read again, and another one is asked whether it has the same.
async fn lists_and_siblings(rig: &Rig, home: &Path) {
    let lists = home.join("lists").display().to_string();
    assert_eq!(rig.interlex(&["config", "ede", "heat-network", &lists]).await.code, 0);
    let (points, states) =
        (format!("file=@{lists}/heat-network_EDE.csv"), format!("states=@{lists}/heat-network_StateTexts.csv"));
    let read = ["offers", "ede", "--device", "heat-network", "--with", &points, "--with", &states, "--to-draft"];
    let read = rig.interlex(&read).await;
    assert!(read.out.contains("0 added, 0 changed, 12 the same"), "{read:?}");
    let alike = ["offers", "objects", "--device", "heat-network", "--into", "boiler-*", "--compare", "--pick"];
    let asked = rig.interlex(&[&alike[..], &["analog-input:1"]].concat()).await;
    assert!(asked.out.contains("boiler-house: the same"), "{asked:?}");
    let asked = rig.interlex(&[&alike[..], &["analog-input:*"]].concat()).await;
    assert!(asked.out.contains("analog-input:2: unit is mbar, not °C"), "{asked:?}");
    assert!(asked.out.contains("analog-input:4 is not there"), "{asked:?}");
}

/// What somebody commanded by hand is given back by hand.
async fn it_is_relinquished_in_the_browser(rig: &Rig) {
    let written = rig.interlex(&["write", "heat-network", "flow-set-point", "60"]).await;
    assert!(written.code == 0 && written.out.contains("confirmed"), "{written:?}");
    let browser = Browser::start().await;
    browser.sign_in(&rig.url, PERSON, PASSWORD).await;
    browser.open("Points").await;
    browser.find("input[type=search]").await.send_keys("flow-set-point").await.unwrap();
    browser.click("[role=row][aria-rowindex='2']").await;
    browser.press("Ask the device now").await;
    browser.shows("12: 60").await;
    browser.press("Relinquish").await;
    browser.press("Give it back").await;
    browser.shows("Relinquished, reads back 72 °C").await;
    browser.picture("relinquish").await;
    browser.close().await;
}
