//! What goes to brokers, looked at from both ends: messages, reports, what waits, and what arrives.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, Host, PASSWORD, PERSON, Rig, wait_for};
use serde_json::{Value, json};
use std::fs;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn what_goes_to_the_brokers_can_be_followed_and_accounted_for() {
    let mut rig = Rig::start().await;
    messages_are_seen_before_and_after_they_go(&rig).await;
    reports_are_weighed(&rig).await;
    the_right_to_publish_is_tried(&rig).await;
    a_key_and_a_request_are_made(&rig).await;
    let browser = Browser::start().await;
    browser.driver.goto(format!("{}/sign-in", rig.url)).await.unwrap();
    browser.fill("Name", PERSON).await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.find("nav").await;
    a_point_is_followed_to_the_broker(&browser).await;
    messages_are_made_while_their_template_is_typed(&rig, &browser).await;
    what_waits_is_shown_and_thrown_away(&mut rig, &browser).await;
    what_an_activation_would_lose_is_shown_first(&mut rig, &browser).await;
    browser.close().await;
}

async fn messages_are_seen_before_and_after_they_go(rig: &Rig) {
    let trial = rig.interlex(&["trial", "messages", "notices", "--output", "json"]).await;
    let trial: Value = serde_json::from_str(&trial.out).unwrap();
    let topics: Vec<_> = trial.as_array().unwrap().iter().map(|message| message["topic"].as_str().unwrap()).collect();
    assert_eq!(topics, ["digester-1", "digester-2", "gas-analyser"].map(|device| format!("alderfen/notices/{device}")));
    let payload: Value = serde_json::from_str(trial[2]["payload"].as_str().unwrap()).unwrap();
    assert_eq!(payload["device"], "Gas analyser");
    assert!(payload["values"]["ch4"].as_f64().is_some(), "{payload}");
    let sent = wait_for("a message", || async {
        let sent = rig.interlex(&["messages", "notices"]).await;
        sent.out.contains("alderfen/notices/gas-analyser").then_some(sent.out)
    })
    .await;
    assert!(sent.contains("\"device\": \"Gas analyser\""), "{sent}");
    let tap = rig.interlex(&["tap", "--uplink", "notices", "--count", "1"]).await;
    assert!(tap.out.contains("alderfen/notices/"), "{tap:?}");
    let wrong = json!({ "uplink": { "topic": "t", "payload": "{\n{{ colour }}" } });
    let (code, told) = rig.post("/api/v1/gateways/alderfen-1/trials/messages", &wrong).await;
    assert_eq!(
        (code, &told[0]["error"]),
        (200, &json!("payload line 2: undefined value: `colour` is undefined")),
        "{told}"
    );
}

async fn reports_are_weighed(rig: &Rig) {
    let weighed = rig.interlex(&["trial", "reports", "digester-1", "--output", "json"]).await;
    let weighed: Value = serde_json::from_str(&weighed.out).unwrap();
    let flow = weighed.as_array().unwrap().iter().find(|preview| preview["point"] == "gas-flow").unwrap();
    assert!(flow["read"].as_u64() > Some(0) && flow["sent"].as_u64() <= flow["read"].as_u64(), "{flow}");
}

async fn the_right_to_publish_is_tried(rig: &Rig) {
    let host = Host::listen(rig.broker.address()).await;
    let tried = rig.interlex(&["trial", "broker", "cloud", "--publish"]).await;
    assert!(
        tried.code == 0 && tried.out.contains("a message to spBv1.0/alderfen/NDEATH/works-1 was taken"),
        "{tried:?}"
    );
    let death = host.hears("a death that is none of its sessions", 0, |message| message.kind == "NDEATH").await;
    let bd_seq = rig.status().await["gateways"][0]["uplinks"][0]["bd_seq"].as_f64();
    assert_ne!(host.all()[death].metrics[0].value, bd_seq, "hosts pass over it");
}

async fn a_key_and_a_request_are_made(rig: &Rig) {
    let at = |name: &str| rig.home().join(name).display().to_string();
    let (key, request) = (at("w.key"), at("w.csr"));
    let arguments =
        ["certificate", "request", "works-1", "--organization", "Alderfen", "--key", &key, "--request", &request];
    assert_eq!(rig.interlex(&arguments).await.code, 0);
    assert!(fs::read_to_string(&request).unwrap().starts_with("-----BEGIN CERTIFICATE REQUEST-----"));
    let made = fs::read_to_string(&key).unwrap();
    let again = rig.interlex(&arguments).await;
    assert!(again.code == 1 && again.err.contains("File exists"), "{again:?}");
    assert_eq!(fs::read_to_string(&key).unwrap(), made, "a key that is there is not touched");
}

async fn a_point_is_followed_to_the_broker(browser: &Browser) {
    browser.open("Tap").await;
    let digester = "//button[contains(., 'digester-1')]";
    // Topics that come move the others under the hand.
    wait_for("the last message of a topic", || async {
        browser.driver.find(By::XPath(digester)).await.ok()?.click().await.ok()?;
        browser.text().await.contains("spBv1.0/alderfen/DDATA/works-1/digester-1").then_some(())
    })
    .await;
    let name = browser.find("input[aria-label='Point to follow']").await;
    name.send_keys("digester-1/gas-flow").await.unwrap();
    wait_for("it was published and arrived", || async {
        let text = browser.find("section[aria-label='Follow a point']").await.text().await.ok()?;
        (text.contains("sent ") && text.contains("arrived ") && !text.contains("nothing since")).then_some(())
    })
    .await;
    browser.picture("tap").await;
}

async fn messages_are_made_while_their_template_is_typed(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/gateways?gateway=alderfen-1&open=uplink:notices", rig.url)).await.unwrap();
    browser.shows("What would be sent now").await;
    browser.fill("Payload", "{{ colour }}").await;
    browser.shows("payload line 1: undefined value").await;
    browser.fill("Payload", "{{ device.title }} at {{ now }}").await;
    browser.shows("Digester 1 at 1").await;
}

async fn what_waits_is_shown_and_thrown_away(rig: &mut Rig, browser: &Browser) {
    let buffer = |status: &Value| status["gateways"][0]["uplinks"][0]["buffer"].clone();
    rig.broker.stop().await;
    rig.until("samples are in the database", |status| buffer(status)["durable"].as_u64() > Some(20)).await;
    browser.driver.goto(format!("{}/buffer", rig.url)).await.unwrap();
    browser.shows("cloud of alderfen-1").await;
    let panel = browser.find("section[aria-label='cloud of alderfen-1']").await;
    wait_for("a picture", || async { panel.find(By::Css("[role=img] canvas")).await.ok() }).await;
    browser.picture("buffer").await;
    let table = rig.interlex(&["buffer"]).await;
    assert!(table.out.contains("offline"), "{table:?}");
    assert_eq!(rig.interlex(&["buffer", "purge", "cloud", "--confirm", "clout"]).await.code, 1);
    rig.until("nothing was thrown away", |status| buffer(status)["waiting"].as_u64() > Some(20)).await;

    panel.find(By::XPath(".//button[contains(., 'Throw away')]")).await.unwrap().click().await.unwrap();
    browser.fill("Type cloud to confirm", "cloud").await;
    browser.press("Throw away").await;
    browser.shows("thrown away by hand").await;
    let gaps = rig.interlex(&["buffer", "gaps", "cloud"]).await;
    assert!(gaps.out.contains("thrown away by hand"), "{gaps:?}");
    let audit = rig.get("/api/v1/audit?action=purge").await.to_string();
    assert!(audit.contains("uplink cloud: ") && audit.contains(PERSON), "{audit}");
    rig.broker.restart().await.unwrap();
    rig.until("it goes on", |status| status["gateways"][0]["uplinks"][0]["state"] == "online").await;
}

async fn what_an_activation_would_lose_is_shown_first(rig: &mut Rig, browser: &Browser) {
    rig.broker.stop().await;
    let waiting = |status: &Value| status["gateways"][0]["uplinks"][0]["buffer"]["waiting"].as_u64();
    rig.until("samples wait", |status| waiting(status) > Some(20)).await;
    let draft = rig.get("/api/v1/gateways/alderfen-1/draft").await;
    let of_analyser =
        |object: &&Value| (&object["class"], &object["name"]) == (&json!("device"), &json!("gas-analyser"));
    let version = draft["objects"].as_array().unwrap().iter().find(of_analyser).unwrap()["version"].clone();
    let edit = json!({ "object": { "class": "device", "name": "gas-analyser" }, "version": version, "content": null });
    let (code, told) = rig.post("/api/v1/gateways/alderfen-1/draft/edits", &json!({ "edits": [edit] })).await;
    assert_eq!(code, 200, "{told}");
    wait_for("some of them are of the analyser", || async {
        let told = rig.get("/api/v1/gateways/alderfen-1/difference").await;
        told["losses"].as_array().is_some_and(|losses| !losses.is_empty()).then_some(())
    })
    .await;

    browser.open("Changes").await;
    browser.shows("Samples wait that the draft has no place for").await;
    browser.shows("and its broker is away").await;
    browser.picture("changes-losses").await;
    browser.press("Activate the draft").await;
    browser.shows("wait for the broker, or activate without them").await;
    assert_eq!(rig.status().await["gateways"][0]["revision"], 1);
    let label = "//label[contains(., 'Throw them away instead')]/input";
    browser.driver.find(By::XPath(label)).await.unwrap().click().await.unwrap();
    browser.press("Activate the draft").await;
    rig.until("it runs without the analyser", |status| status["gateways"][0]["revision"] == 2).await;
    wait_for("what was lost is written down", || async {
        let gaps = rig.interlex(&["buffer", "gaps", "cloud"]).await;
        gaps.out.contains("points that are gone").then_some(())
    })
    .await;
    rig.broker.restart().await.unwrap();
    rig.until("the rest is sent", |status| waiting(status) < Some(20)).await;
}
