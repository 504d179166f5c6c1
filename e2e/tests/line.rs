//! The bench in front of a serial line: who is there, what do they say, and a command back.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Host, Rig, aliased, boolean, double, named, wait_for};
use serde_json::{Value, json};
use std::process::Command;

#[tokio::test(flavor = "multi_thread")]
async fn a_serial_line_is_looked_at_commanded_and_recorded() {
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let host = Host::listen(rig.broker.address()).await;
    let description = rig.description_with_line().await;
    let out = rig.interlex(&["config", "apply", &description, "--activate", "--note", "with the line"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    // One point stands at an address that its device does not have.
    rig.until("all points but one are good", |status| status["gateways"][0]["points_good"] == 50).await;
    rig.until("the uplink is online", |status| status["gateways"][0]["uplinks"][0]["state"] == "online").await;
    who_is_there(&rig).await;
    the_way_to_the_broker(&rig).await;
    a_command_goes_out_and_its_value_arrives(&rig).await;
    nothing_wrong_is_written(&rig).await;
    a_host_commands_what_it_may(&rig, &host).await;
    the_line_tells_what_it_counted(&rig).await;
    the_recording_is_read_by_another_program(&rig).await;
}

async fn who_is_there(rig: &Rig) {
    let out =
        rig.interlex(&["offers", "units", "--link", "meter-line", "--with", "first=10", "--with", "last=14"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    let units: Vec<_> = out.out.lines().filter(|line| line.starts_with("unit")).map(|line| &line[..9]).collect();
    assert_eq!(units, ["unit  11 ", "unit  12 ", "unit  13 "]);
    let out = rig.interlex(&["offers", "addresses", "--device", "gas-meter", "--with", "last=30", "-o", "csv"]).await;
    let found: Vec<_> = out.out.lines().skip(1).map(|line| line.split(',').next().unwrap_or_default()).collect();
    assert_eq!(found, ["holding/10", "holding/11", "holding/12", "holding/13", "holding/14", "holding/15"], "{out:?}");
    let pick = ["--pick", "*:1[0-9]", "--pick", "holding/12", "--case", "kebab", "--prefix", "raw-", "--parts", "1"];
    let asked = ["offers", "addresses", "--device", "gas-meter", "--with", "last=30", "--rate", "normal", "--to-draft"];
    let out = rig.interlex(&[&asked[..], &pick[..]].concat()).await;
    assert_eq!(out.out.lines().last(), Some("points/gas-meter.csv: 1 added, 0 changed, 5 the same"), "{out:?}");
    let out = rig.interlex(&[&asked[..], &["--pick", "coil/*"]].concat()).await;
    assert!(out.code == 1 && out.err.contains("of 6 points none fits coil/*"), "{out:?}");
    let out = rig.interlex(&["draft", "discard", "--yes"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    let out = rig.interlex(&["trial", "identify", "gas-meter"]).await;
    assert!(out.out.contains("VendorName          Alderfen Instruments"), "{out:?}");
    let out = rig.interlex(&["trial", "read", "gas-meter", "holding:16"]).await;
    assert!(out.code == 1 && out.err.contains("unit 13: exception 02, illegal data address"), "{out:?}");
    assert!(out.err.contains("0D 03 00 10 00 01"), "the frames are told: {out:?}");
}

async fn the_way_to_the_broker(rig: &Rig) {
    let session = || async { rig.get("/api/v1/status").await["gateways"][0]["uplinks"][0]["bd_seq"].clone() };
    let before = session().await;
    let out = rig.interlex(&["trial", "broker", "cloud"]).await;
    assert!(out.code == 0 && out.out.contains("let in as client alderfen-works-1-trial"), "{out:?}");
    assert!(out.out.contains("spBv1.0/alderfen/DCMD/works-1/+"), "{out:?}");
    assert_eq!(session().await, before, "the session goes on");
}

async fn a_command_goes_out_and_its_value_arrives(rig: &Rig) {
    let out = rig.interlex(&["write", "digester-1", "temperature-set-point", "42.5"]).await;
    assert!(out.out.starts_with("holding:0 = 42.5 °C, raw 425   confirmed"), "{out:?}");
    let truth = rig.truth().await;
    assert_eq!(truth["digester-1"]["temperature-set-point"].as_f64(), Some(42.5));
    wait_for("the point says so", || async {
        let point = rig.get("/api/v1/points/alderfen-1/digester-1/temperature-set-point").await;
        (point["value"] == 42.5).then_some(())
    })
    .await;
    let out = rig.interlex(&["trial", "write", "digester-2", "coil:0", "false"]).await;
    assert!(out.out.starts_with("coil:0 = false, raw false   confirmed"), "{out:?}");
    let audit = rig.get("/api/v1/audit?action=write").await;
    let told = audit.to_string();
    assert!(told.contains("alderfen-1/digester-1/temperature-set-point = 42.5: confirmed"), "{told}");
}

async fn nothing_wrong_is_written(rig: &Rig) {
    let refused = [
        (vec!["write", "digester-1", "temperature-set-point", "51"], "51 is above its high limit 50"),
        (vec!["write", "digester-1", "mixer", "2"], "2 is no bit"),
        (vec!["write", "gas-analyser", "ch4", "3"], "the point is read only"),
        (vec!["trial", "write", "digester-1", "holding:0", "70000"], "70000 does not fit uint16"),
    ];
    for (arguments, why) in refused {
        let out = rig.interlex(&arguments).await;
        assert!(out.code == 1 && out.err.contains(why), "{arguments:?}: {out:?}");
    }
    let out = rig.interlex(&["write", "digester-1", "nothing", "1"]).await;
    assert!(out.code == 1 && out.err.contains("there is no point alderfen-1/digester-1/nothing"), "{out:?}");
    assert_eq!(rig.truth().await["digester-1"]["temperature-set-point"].as_f64(), Some(42.5));
}

async fn a_host_commands_what_it_may(rig: &Rig, host: &Host) {
    let birth = host.hears("the birth", 0, |m| m.kind == "DBIRTH" && m.device.as_deref() == Some("digester-2")).await;
    let metrics = host.all()[birth].metrics.clone();
    let told = |name: &str| metrics.iter().find(|metric| metric.name.as_deref() == Some(name)).unwrap();
    assert_eq!(told("mixer").properties.get("access").map(String::as_str), Some("read-write"));
    assert_eq!(told("temperature").properties.get("access"), None);
    let before = host.all().len();
    host.command("digester-2", &[named("temperature-set-point"), double(39.5)]).await;
    host.command("digester-2", &[aliased(told("mixer").alias.unwrap()), boolean(true)]).await;
    host.command("digester-2", &[named("temperature-set-point"), double(51.0)]).await;
    host.command("digester-2", &[named("temperature"), double(39.5)]).await;
    host.command("digester-2", &[named("mixer"), double(1.0)]).await;
    let alias = told("temperature-set-point").alias;
    host.hears("the value comes back", before, |message| {
        message.metrics.iter().any(|metric| metric.alias == alias && metric.value == Some(39.5))
    })
    .await;
    for words in ["digester-2/mixer = true: confirmed", "refused: 51 is above its high limit 50"] {
        let tells = |metric: &interlex_e2e::Heard| metric.text.as_deref().is_some_and(|text| text.contains(words));
        host.hears("what became of it is told to hosts", before, |message| message.metrics.iter().any(tells)).await;
    }
    let audit = wait_for("all five are audited", || async {
        let audit = rig.get("/api/v1/audit?action=command").await;
        (audit.to_string().matches("uplink cloud").count() == 5).then(|| audit.to_string())
    })
    .await;
    for detail in [
        "digester-2/temperature-set-point = 39.5: confirmed",
        "digester-2/mixer = true: confirmed",
        "digester-2/temperature-set-point = 51: refused: 51 is above its high limit 50",
        r#"digester-2: metric \"temperature\" takes no commands"#,
        r#"digester-2: metric \"mixer\": "#,
    ] {
        assert!(audit.contains(detail), "{detail}: {audit}");
    }
    let truth = rig.truth().await;
    assert_eq!(
        (&truth["digester-2"]["temperature-set-point"], &truth["digester-2"]["mixer"]),
        (&json!(39.5), &json!(1.0))
    );
}

async fn the_line_tells_what_it_counted(rig: &Rig) {
    let path = "/api/v1/gateways/alderfen-1/links/meter-line";
    let requests = rig.get(&format!("{path}/requests")).await;
    let bad: Vec<&Value> = requests.as_array().unwrap().iter().filter(|request| !request["bad"].is_null()).collect();
    assert_eq!(bad.len(), 1, "{requests}");
    assert_eq!((&bad[0]["reads"], &bad[0]["points"]), (&json!("holding registers 16"), &json!(["density"])));
    let statistics = rig.get(&format!("{path}/statistics")).await;
    let slow = statistics["devices"].as_array().unwrap().iter().find(|d| d["name"] == "heat-meter-digesters").unwrap();
    assert!(slow["answer_times"]["p50_ms"].as_f64() >= Some(100.0), "{slow}");
    assert_eq!(statistics["devices"][2]["refusals"][0]["meaning"], "device exception 02, illegal data address");
    assert!(statistics["bus_load"].as_f64() > Some(0.001), "{statistics}");
    let out = rig.interlex(&["link", "meter-line"]).await;
    assert!(out.out.contains("device exception 02, illegal data address, whole again in"), "{out:?}");
    let out = rig.interlex(&["frames", "meter-line", "--errors", "--device", "gas-meter"]).await;
    assert!(out.out.contains("exception 02, illegal data address  (read holding registers 16)"), "{out:?}");
    let out = rig.interlex(&["frames", "nowhere"]).await;
    assert!(out.code == 1 && out.err.contains("there is no running link alderfen-1/nowhere"), "{out:?}");
}

async fn the_recording_is_read_by_another_program(rig: &Rig) {
    let scratch = tempfile::tempdir().unwrap();
    let tshark = |file: &std::path::Path, arguments: &[&str]| {
        let out = Command::new("tshark").arg("-r").arg(file).args(arguments).output().unwrap();
        String::from_utf8(out.stdout).unwrap()
    };
    for (link, options, function) in [
        ("meter-line", &["-d", "tcp.port==5020,mbrtu"][..], "Read Holding Registers"),
        ("process-bus", &[][..], "Write Single Register"),
    ] {
        let file = scratch.path().join(format!("{link}.pcapng"));
        let out = rig.interlex(&["frames", link, "--save", &file.display().to_string()]).await;
        assert_eq!(out.code, 0, "{out:?}");
        let told = tshark(&file, options);
        assert!(told.lines().count() > 10 && told.contains(function), "{told}");
        let wrong = "_ws.malformed || mbrtu.crc16.status == 0 || tcp.analysis.flags || ip.checksum.status == 0";
        assert_eq!(tshark(&file, &[options, &["-Y", wrong]].concat()), "", "{link}");
    }
}
