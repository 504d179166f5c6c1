//! A running plant is changed by files: seen before, changed only where it differs, and taken back.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Rig, wait_for};
use std::fs;
use std::path::Path;
use std::time::Duration;

fn replace(directory: &str, file: &str, from: &str, to: &str) {
    let path = Path::new(directory).join(file);
    let text = fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{from} in {text}");
    fs::write(path, text.replace(from, to)).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pipeline_checks_compares_applies_and_returns() {
    let rig = Rig::start().await;
    let directory = rig.description().await;
    let run = async |arguments: &[&str]| rig.interlex(arguments).await;
    assert_eq!(run(&["config", "diff", &directory, "--exit-code"]).await.code, 0, "what runs is what the files say");

    replace(&directory, "points/gas-analyser.csv", "change,0.02,,0,100,Methane", "change,0.05,,0,100,Methane");
    let diff = run(&["config", "diff", &directory, "--exit-code"]).await;
    assert_eq!(diff.code, 8, "{}", diff.err);
    let told = "link process-bus stays connected, changed for points of gas-analyser\nuplink cloud goes on untouched\nuplink notices \
                goes on untouched\n\n~ point ch4 of gas-analyser: deadband 0.02 → 0.05 %\n";
    assert_eq!(diff.out, told);
    let rehearsed = run(&["config", "apply", &directory, "--activate", "--note", "x", "--dry-run"]).await;
    assert!(rehearsed.code == 0 && rehearsed.out.starts_with(told), "{rehearsed:?}");
    assert_eq!(rig.status().await["gateways"][0]["revision"], 1, "nothing was changed");

    // Into the draft; from there a colleague's edit must not be written over unseen.
    assert_eq!(run(&["config", "apply", &directory]).await.code, 0);
    let shown = run(&["draft", "show"]).await;
    assert!(shown.out.contains("its draft has 1 change, the last one by ada"), "{shown:?}");
    replace(&directory, "points/gas-analyser.csv", "change,0.05,,0,100,Methane", "change,0.5,,0,100,Methane");
    let conflict = run(&["config", "apply", &directory]).await;
    assert!(conflict.code == 6 && conflict.err.contains("edits of ada that are not activated"), "{conflict:?}");
    let activated = run(&["config", "apply", &directory, "--replace", "--activate", "--note", "calmer"]).await;
    assert_eq!(
        activated.out,
        "alderfen-1 runs revision 2.\n  link process-bus: changed, up\n  uplink cloud: untouched, online\n  uplink \
         notices: untouched, online\n"
    );

    // A link that does not come up: back to what was before, by itself.
    replace(&directory, "gateway.toml", "timeout = \"500ms\"", "timeout = \"400ms\"");
    let port = format!("port = {}", rig.plant().port());
    replace(&directory, "gateway.toml", &port, "port = 9");
    let arguments = ["config", "apply", &directory, "--activate", "--note", "moved", "--wait", "2s", "--or-return"];
    let returned = run(&arguments).await;
    assert_eq!(returned.code, 7, "{returned:?}");
    assert!(returned.out.contains("link process-bus: restarted, down: cannot connect"), "{returned:?}");
    assert!(returned.err.contains("alderfen-1 runs revision 2 again, as revision 4"), "{returned:?}");
    rig.until("it runs as before", |status| status["gateways"][0]["points_good"] == 36).await;

    // What runs, brought into the files of before: comments stay.
    let out = run(&["config", "export", &directory, "--update"]).await;
    assert_eq!(out.code, 0, "{}", out.err);
    let main = fs::read_to_string(Path::new(&directory).join("gateway.toml")).unwrap();
    assert!(main.starts_with("# The Alderfen biogas works") && main.contains(&port), "{main}");
    assert_eq!(run(&["config", "diff", &directory, "--exit-code"]).await.code, 0);

    let revisions = run(&["revisions", "list", "-o", "csv"]).await;
    let notes: Vec<_> = revisions.out.lines().skip(1).map(|line| line.rsplit(',').next().unwrap().to_owned()).collect();
    assert_eq!(notes, ["return to revision 2: revision 3 did not come up", "moved", "calmer", "first"]);
    let trail = run(&["audit", "--action", "activate", "-o", "json"]).await;
    assert_eq!(serde_json::from_str::<serde_json::Value>(&trail.out).unwrap().as_array().unwrap().len(), 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_starter_is_a_description_without_mistakes() {
    let home = tempfile::tempdir().unwrap();
    let directory = home.path().join("works").display().to_string();
    let run = async |arguments: &[&str]| interlex_e2e::run(arguments, home.path(), "").await;
    assert_eq!(run(&["config", "init", &directory, "--name", "heat-1"]).await.code, 0);
    let checked = run(&["config", "check", &directory, "--strict"]).await;
    assert_eq!((checked.code, checked.out.as_str()), (0, "No mistakes: 1 link, 1 device, 2 points.\n"), "{checked:?}");
    assert_eq!(run(&["config", "init", &directory]).await.code, 1, "nothing is written over");
    let schema = run(&["config", "schema"]).await.out;
    assert_eq!(fs::read_to_string(format!("{directory}/gateway.schema.json")).unwrap(), schema);
}

/// The service is killed at any moment while it activates: it comes up with the old revision or with the new one, whole.
#[tokio::test(flavor = "multi_thread")]
async fn killed_while_activating_it_comes_up_with_one_revision_whole() {
    let mut rig = Rig::start().await;
    let directory = rig.description().await;
    let exported = async |rig: &Rig, name: &str| {
        let out = rig.home().join(name).display().to_string();
        assert_eq!(rig.interlex(&["config", "export", &out, "--force"]).await.code, 0);
        ["gateway.toml", "points/digester.csv", "points/gas-analyser.csv"]
            .map(|file| fs::read_to_string(Path::new(&out).join(file)).unwrap())
    };
    let mut old = exported(&rig, "old").await;
    let mut outcomes = [0, 0];
    for round in 0..8_u64 {
        // Every file differs from one revision to the next.
        let title = |round: u64| match round {
            0 => "title = \"Alderfen".to_owned(),
            _ => format!("title = \"{round} Alderfen"),
        };
        replace(&directory, "gateway.toml", &title(round), &title(round + 1));
        for list in ["points/digester.csv", "points/gas-analyser.csv"] {
            let text = fs::read_to_string(Path::new(&directory).join(list)).unwrap();
            fs::write(
                Path::new(&directory).join(list),
                format!("{text}more-{round},input:{},uint16,,,,,slow,,,,,,\n", 200 + round),
            )
            .unwrap();
        }
        let (home, arguments) = (
            rig.home(),
            ["config", "apply", &directory, "--replace", "--activate", "--note", "again", "--wait", "1ms"]
                .map(str::to_owned),
        );
        let applying = tokio::spawn(async move {
            let arguments: Vec<_> = arguments.iter().map(String::as_str).collect();
            interlex_e2e::run(&arguments, &home, "").await
        });
        // No condition to wait for: the moment itself is what is tried. The whole takes about a tenth of a second.
        tokio::time::sleep(Duration::from_millis(20 + fastrand::u64(0..150))).await;
        rig.service.kill().await;
        applying.await.unwrap();
        rig.restart_service().await;
        wait_for("the gateway runs", || async { rig.status().await["gateways"][0]["revision"].as_u64() }).await;
        let files = exported(&rig, "now").await;
        let is_new = files != old;
        if is_new {
            assert!(files[0].contains(&title(round + 1)), "{}", files[0]);
            assert!(
                files[1..].iter().all(|list| list.contains(&format!("more-{round},"))),
                "half of a revision: {files:?}"
            );
        }
        outcomes[usize::from(is_new)] += 1;
        old = files;
    }
    assert_eq!(outcomes[0] + outcomes[1], 8, "{outcomes:?}");
}
