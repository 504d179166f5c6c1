//! Descriptions are checked, applied and exported, with the same words everywhere.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::Rig;
use serde_json::json;
use std::fs;
use std::path::Path;

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_is_told_by_client_and_service_in_the_same_words() {
    let rig = Rig::start().await;
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let good = fs::read_to_string(&main).unwrap();
    fs::write(&main, good.replace("fast = \"500ms\"", "fast = \"0s\"").replace("unit = 3", "unti = 3")).unwrap();

    let checked = rig.interlex(&["config", "check", &directory]).await;
    assert_eq!(checked.code, 3, "{}", checked.err);
    assert!(
        checked.out.contains("gateway.toml:8:8: rates: fast is \"0s\"; expected a span of time"),
        "{}",
        checked.out
    );
    assert!(checked.out.contains("unti is no known key; expected unit?"), "{}", checked.out);

    let files: serde_json::Map<_, _> = ["gateway.toml", "points/digester.csv", "points/gas-analyser.csv"]
        .map(|file| (file.to_owned(), fs::read_to_string(Path::new(&directory).join(file)).unwrap().into()))
        .into_iter()
        .collect();
    let (code, result) = rig.post("/api/v1/check", &json!({ "files": files })).await;
    let told: Vec<interlex_core::description::Problem> = serde_json::from_value(result["problems"].clone()).unwrap();
    assert_eq!(code, 200);
    assert_eq!(told.iter().map(ToString::to_string).collect::<Vec<_>>(), checked.out.lines().collect::<Vec<_>>());

    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "broken"]).await;
    assert_eq!(applied.code, 3);
    for line in checked.out.lines() {
        assert!(applied.err.contains(line), "{line} in\n{}", applied.err);
    }
    assert_eq!(rig.status().await["gateways"][0]["revision"], 1, "nothing was changed");
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_that_make_no_sense_are_refused_in_one_shape() {
    let rig = Rig::start().await;
    for (path, body, wanted) in [
        ("/api/v1/check", "{", 400),
        ("/api/v1/check", "{\"files\": 5}", 422),
        ("/api/v1/status", "{}", 405),
        ("/api/v1/nothing", "{}", 404),
        ("/api/v1/session", "{\"name\": \"ada\", \"password\": \"guess\"}", 401),
        ("/api/v1/setup", "{\"code\": \"x\", \"name\": \"eve\", \"password\": \"long enough\"}", 401),
    ] {
        let (code, kind, text) = rig.post_raw(path, body).await;
        assert_eq!((code, kind.as_str()), (wanted, "application/problem+json"), "{path} {body}: {text}");
        let problem: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert!(problem["title"].is_string() && problem["detail"].is_string() && problem["status"] == wanted, "{text}");
    }
    let mut codes = Vec::new();
    while codes.last() != Some(&429) {
        codes.push(rig.post_raw("/api/v1/session", "{\"name\": \"eve\", \"password\": \"guess\"}").await.0);
        assert!(codes.len() < 20, "guesses are not slowed down: {codes:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_exported_description_applies_to_the_same_bytes() {
    let rig = Rig::start().await;
    let out = rig.home().join("exported");
    let directory = out.display().to_string();
    assert_eq!(rig.interlex(&["config", "export", &directory]).await.code, 0);
    assert_eq!(rig.interlex(&["config", "export", &directory]).await.code, 1, "nothing is overwritten unasked");
    let bytes = |file: &str| fs::read(out.join(file)).unwrap();
    let files = ["gateway.toml", "points/digester.csv", "points/gas-analyser.csv"];
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "again"]).await;
    assert_eq!(applied.out, "alderfen-1 runs revision 1 already: nothing changes.\n", "{}", applied.err);
    let main = fs::read_to_string(out.join("gateway.toml")).unwrap();
    let titled = main.replacen("Alderfen biogas works", "Alderfen", 1);
    assert_ne!(titled, main);
    fs::write(out.join("gateway.toml"), titled).unwrap();
    let before = files.map(bytes);
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "again"]).await;
    let told = "alderfen-1 runs revision 2.\n  link process-bus: untouched, up\n  uplink cloud: untouched, online\n  uplink \
                notices: untouched, online\n";
    assert_eq!(applied.out, told, "{}", applied.err);
    assert_eq!(rig.interlex(&["config", "export", &directory, "--force"]).await.code, 0);
    assert_eq!(files.map(bytes), before);
    let revisions = rig.get("/api/v1/gateways/alderfen-1/revisions").await;
    assert_eq!((revisions[0]["note"].as_str(), revisions[0]["author"].as_str()), (Some("again"), Some("ada")));
    rig.until("it runs", |status| status["gateways"][0]["points_good"] == 36).await;
}
