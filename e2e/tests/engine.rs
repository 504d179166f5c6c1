//! An engine of which only the address is known: from there to its values at the broker.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Heard, Host, Program, Rig, run, wait_for};
use interlex_sidecar::own_address;
use std::net::Ipv4Addr;
use std::path::Path;
use std::process::Command;
use std::time::{SystemTime, UNIX_EPOCH};

/// Source: Sparkplug 3.0.0, section 6.4.16.
const FLOAT_ARRAY: u64 = 30;

#[expect(clippy::disallowed_methods, reason = "values have the time of day")]
fn milliseconds() -> i64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
    i64::try_from(now.as_millis()).unwrap()
}

fn start_engine(host: Ipv4Addr, home: &Path, more: &[&str]) -> Program {
    let directory = home.join("engine").display().to_string();
    let host = host.to_string();
    let plant = ["plant", "--host", &host, "--engine-port", "4840", "--engine-dir", &directory];
    Program::start(&[&plant, more].concat(), home)
}

/// Adds a link to the engine, and a device without points.
fn describe(directory: &str, host: Ipv4Addr, more: &str) {
    let main = Path::new(directory).join("gateway.toml");
    let text = std::fs::read_to_string(&main).unwrap();
    let (before, after) = text.split_once("[[uplink]]").unwrap();
    let own = format!(
        "[[link]]\nname = \"engine\"\nprotocol = \"opcua\"\nurl = \"opc.tcp://{host}:4840\"\nreconnect-limit = \"1s\"\n{more}\n\
         [[device]]\nname = \"chp\"\nlink = \"engine\"\n\n"
    );
    std::fs::write(&main, format!("{before}{own}[[uplink]]{after}")).unwrap();
    std::fs::write(Path::new(directory).join("points/chp.csv"), "name,address,rate\n").unwrap();
}

fn link(status: &serde_json::Value) -> &serde_json::Value {
    let links = status["gateways"][0]["links"].as_array().unwrap();
    links.iter().find(|link| link["name"] == "engine").unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_is_trusted_browsed_watched_and_found_again() {
    let mut rig = Rig::start().await;
    let (host, home) = (own_address(), rig.home());
    let mut engine = start_engine(host, &home, &[]);
    engine.says("The engine on opc.tcp").await;
    let directory = rig.description().await;
    describe(&directory, host, "");
    let apply = ["config", "apply", &directory, "--activate", "--note", "an engine", "--wait", "5s"];
    let applied = rig.interlex(&apply).await;
    assert_eq!(applied.code, 7, "nobody has looked at its certificate yet: {applied:?}");
    rig.until("it says why", |status| {
        let why = link(status)["last_error"].as_str().unwrap_or_default();
        why.contains("is not trusted: nobody here has accepted it") && why.contains("CN=Engine controller, SHA-256 ")
    })
    .await;

    // Whoever compares the fingerprint takes it.
    let shown = rig.interlex(&["offers", "endpoints", "--link", "engine"]).await;
    assert!(shown.out.contains("its certificate is not trusted yet") && shown.out.contains("no security"), "{shown:?}");
    let taken =
        rig.interlex(&["offers", "endpoints", "--link", "engine", "--pick", "encrypt-basic*", "--to-draft"]).await;
    assert!(
        taken.code == 0 && taken.out.contains("engine in the draft: security = encrypt-basic256sha256"),
        "{taken:?}"
    );

    // What its maker's file says of it, before anybody is asked.
    let file = concat!("file=@", env!("CARGO_MANIFEST_DIR"), "/../crates/opcua/tests/vectors/engine.xml");
    let described = rig.interlex(&["offers", "node-set", "--device", "chp", "--with", file]).await;
    assert!(described.code == 0 && described.out.contains("nsu=urn:alderfen:chp;s=Engine.Speed"), "{described:?}");

    // All that it has, in one go.
    let nodes = ["offers", "nodes", "--device", "chp", "--parts", "1", "--case", "kebab", "--to-draft"];
    let offered = rig.interlex(&nodes).await;
    assert!(offered.code == 0 && offered.out.contains("points/chp.csv: 15 added"), "{offered:?}");
    let hosts = Host::listen(rig.broker.address()).await;
    let activated = rig.interlex(&["draft", "activate", "--note", "its nodes"]).await;
    assert_eq!(activated.code, 0, "{activated:?}");
    hosts.hears("the birth of the engine", 0, |m| m.kind == "DBIRTH" && m.device.as_deref() == Some("chp")).await;
    hosts
        .hears("an array as such", 0, |m| {
            let is_array = |metric: &Heard| metric.datatype == Some(FLOAT_ARRAY) && !metric.is_null;
            let is_meant = |metric: &Heard| metric.name.as_deref() == Some("cylinder-temperatures");
            m.kind == "DBIRTH" && m.metrics.iter().any(|metric| is_meant(metric) && is_array(metric))
        })
        .await;
    hosts.hears("its values", 0, |m| m.kind == "DDATA" && m.device.as_deref() == Some("chp")).await;
    let points = rig.interlex(&["points", "chp", "-o", "csv"]).await;
    for (point, value) in
        [("speed", "r/min"), ("active-power", "kW"), ("state", "Running"), ("counters-starts", "1327")]
    {
        let row = points.out.lines().find(|row| row.contains(&format!(",{point},"))).unwrap_or_default();
        assert!(row.contains(value) && row.contains("good"), "{point}: {row}");
    }
    // A structure is no value: it says so.
    let whole = rig.interlex(&["trial", "read", "chp", "nsu=urn:alderfen:chp;s=Engine.Counters"]).await;
    assert!(whole.err.contains("BadDataTypeIdUnknown: the value is a structure"), "{whole:?}");
    let part = ["trial", "read", "chp", "nsu=urn:alderfen:chp;s=Engine.Counters", "--field", "Starts", "-o", "json"];
    let part: serde_json::Value = serde_json::from_str(&rig.interlex(&part).await.out).unwrap();
    assert_eq!((part["value"].as_u64(), part["shared_connection"].as_bool()), (Some(1327), Some(true)), "{part}");

    // What is secured on its way is saved by those who may, and mean it.
    let file = home.join("engine.pcapng").display().to_string();
    let refused = rig.interlex(&["frames", "engine", "--save", &file]).await;
    assert!(refused.code == 6 && refused.err.contains("secured on its way"), "{refused:?}");
    let saved = rig.interlex(&["frames", "engine", "--save", &file, "--in-the-clear"]).await;
    assert_eq!(saved.code, 0, "{saved:?}");
    let tshark = |wanted: &[&str]| {
        let out = Command::new("tshark").args(["-r", &file, "-Y"]).args(wanted).output().unwrap();
        String::from_utf8(out.stdout).unwrap()
    };
    assert!(tshark(&["opcua"]).contains("PublishResponse"), "another program reads it");
    assert_eq!(tshark(&["_ws.malformed || tcp.analysis.flags || ip.checksum.status == 0"]), "");

    // Who says nothing of who they are only looks.
    let refused = rig.interlex(&["write", "chp", "power-set-point", "450"]).await;
    assert!(refused.code == 1 && refused.err.contains("BadUserAccessDenied"), "{refused:?}");

    // The engine goes and comes back; so does the service, which keeps its own certificate.
    engine.kill().await;
    rig.until("its link is down", |status| link(status)["state"] == "down").await;
    engine = start_engine(host, &home, &[]);
    rig.until("its link is up", |status| link(status)["state"] == "up").await;
    rig.until("so is it", |status| link(status)["devices"][0]["state"] == "up").await;
    let own = rig.data_dir().join("opcua-certificate.pem");
    let before = std::fs::read(&own).unwrap();
    let saved = home.join("ours.pem").display().to_string();
    assert_eq!(rig.interlex(&["certificate", "own", "--save", &saved]).await.code, 0);
    assert_eq!(std::fs::read(&saved).unwrap(), before, "what servers are to trust");
    assert_eq!(rig.stop_service().await, 0);
    rig.restart_service().await;
    rig.until("it is up again", |status| link(status)["devices"][0]["state"] == "up").await;
    assert_eq!(std::fs::read(&own).unwrap(), before);
    wait_for("its values are good", || async {
        let points = run(&["points", "chp", "-o", "csv"], &rig.home(), "").await;
        points.out.lines().any(|row| row.contains(",speed,") && row.contains("good")).then_some(())
    })
    .await;
    assert_eq!(engine.interrupt().await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_that_only_calls_is_let_in_and_nobody_else_is() {
    let rig = Rig::start().await;
    let (host, door, home) = (own_address(), format!("{}:4843", own_address()), rig.home());
    let mut engine = start_engine(host, &home, &["--engine-calls", &door]);
    engine.says("The engine on opc.tcp").await;
    let directory = rig.description().await;
    describe(&directory, host, &format!("reverse = \"{door}\"\n"));
    let apply = ["config", "apply", &directory, "--activate", "--note", "an engine that calls", "--wait", "1s"];
    let applied = rig.interlex(&apply).await;
    assert_eq!(applied.code, 7, "nobody knows yet who calls: {applied:?}");
    let uri = "urn:alderfen:chp:controller";
    rig.until("it says who calls", |status| {
        link(status)["last_error"].as_str().is_some_and(|why| why.contains(uri) && why.contains("server-uri"))
    })
    .await;

    let main = Path::new(&directory).join("gateway.toml");
    let (listens, text) = (format!("reverse = \"{door}\"\n"), std::fs::read_to_string(&main).unwrap());
    std::fs::write(&main, text.replace(&listens, &format!("{listens}server-uri = \"{uri}\"\n"))).unwrap();
    let applied = rig.interlex(&["config", "apply", &directory]).await;
    assert_eq!(applied.code, 0, "{applied:?}");
    let take = ["offers", "endpoints", "--link", "engine", "--pick", "encrypt-basic*", "--to-draft"];
    let taken = rig.interlex(&take).await;
    assert!(taken.code == 0 && taken.out.contains("security = encrypt-basic256sha256"), "{taken:?}");
    // One who says nothing stands in the door meanwhile, and one who says another name.
    let silent = tokio::net::TcpStream::connect(&door).await.unwrap();
    let activated = rig.interlex(&["draft", "activate", "--note", "the one that calls"]).await;
    assert_eq!(activated.code, 0, "{activated:?}");
    rig.until("its link is up", |status| link(status)["state"] == "up").await;
    drop(silent);
    let value = ["trial", "read", "chp", "nsu=urn:alderfen:chp;s=Engine.Speed", "-o", "json"];
    let value: serde_json::Value = serde_json::from_str(&rig.interlex(&value).await.out).unwrap();
    assert!(value["value"].as_f64().is_some_and(|speed| speed > 1000.0), "{value}");
    assert_eq!(engine.interrupt().await, 0);
    rig.until("its link is down", |status| link(status)["state"] == "down").await;
    let mut engine = start_engine(host, &home, &["--engine-calls", &door]);
    rig.until("it has called again", |status| link(status)["state"] == "up").await;
    assert_eq!(engine.interrupt().await, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_that_misbehaves_goes_on_telling_its_values() {
    let rig = Rig::start().await;
    let (host, home) = (own_address(), rig.home());
    let mut engine = start_engine(host, &home, &[]);
    engine.says("The engine on opc.tcp").await;
    let directory = rig.description().await;
    describe(&directory, host, "timeout = \"2s\"\n");
    assert_eq!(rig.interlex(&["config", "apply", &directory]).await.code, 0);
    let take = ["offers", "endpoints", "--link", "engine", "--pick", "encrypt-basic*", "--to-draft"];
    assert_eq!(rig.interlex(&take).await.code, 0);
    let nodes = ["offers", "nodes", "--device", "chp", "--parts", "1", "--case", "kebab", "--to-draft"];
    assert_eq!(rig.interlex(&nodes).await.code, 0);
    assert_eq!(rig.interlex(&["draft", "activate", "--note", "an engine", "--wait", "5s"]).await.code, 0);

    let address = host.to_string();
    let fault = async |fault: &str, off: bool| {
        let mut command = vec!["plant", "--host", &address, "fault", "engine", fault];
        command.extend(off.then_some("--off"));
        let switched = rig.interlex(&command).await;
        assert_eq!(switched.code, 0, "{switched:?}");
    };
    // When its speed came last, if it is good.
    let speed_came = async || {
        let told = rig.interlex(&["points", "chp", "-o", "json"]).await;
        let points: serde_json::Value = serde_json::from_str(&told.out).unwrap();
        let speed = points.as_array()?.iter().find(|point| point["name"] == "speed")?;
        (speed["quality"] == "good").then(|| speed["gateway_at"].as_i64())?
    };
    let goes_on = async |what: &str| {
        let from = milliseconds();
        wait_for(what, || async { speed_came().await.filter(|at| *at > from) }).await;
    };
    goes_on("it is watched").await;
    for name in ["no-transfer", "other-host", "lying-limits", "late-history", "slow", "clock-off"] {
        fault(name, false).await;
        fault("session-lost", false).await;
        goes_on(&format!("{name}, and all sessions are forgotten")).await;
        // It is connected anew, too.
        fault("namespaces-reordered", false).await;
        goes_on(&format!("{name}, and namespaces have other numbers")).await;
        if name == "clock-off" {
            rig.until("it is told that the clock is off", |status| {
                link(status)["devices"][0]["last_error"].as_str().unwrap_or_default().contains("s ahead of ours")
            })
            .await;
        }
        fault(name, true).await;
        fault("namespaces-reordered", true).await;
        goes_on(&format!("{name} no more")).await;
    }
    fault("other-certificate", false).await;
    rig.until("nobody has accepted that one", |status| {
        let why = link(status)["last_error"].as_str().unwrap_or_default();
        link(status)["state"] == "down" && why.contains("is not trusted")
    })
    .await;
    fault("other-certificate", true).await;
    goes_on("its own certificate").await;
    let none = rig.interlex(&["plant", "--host", &address, "fault", "engine", "noisy-sensor"]).await;
    assert!(none.code == 1 && none.err.contains("engine does not have the fault noisy-sensor"), "{none:?}");
    assert_eq!(engine.interrupt().await, 0);
}
