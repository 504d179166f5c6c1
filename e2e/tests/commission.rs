//! An engineer in front of the console: a device is added step by step, changed, and changed by two at once.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, PASSWORD, PERSON, Rig, run, wait_for};
use serde_json::json;
use std::fs;
use std::path::Path;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn an_engineer_adds_a_device_and_sees_it_at_the_broker() {
    let rig = without_analyser().await;
    let browser = Browser::start().await;
    browser.sign_in(&rig.url, PERSON, PASSWORD).await;
    step_by_step(&rig, &browser).await;
    a_mistake_is_marked_at_its_field(&rig, &browser).await;
    unsaved_work_outlives_a_reload_and_a_conflict_shows_both(&rig, &browser).await;
    changes_are_looked_at_and_activated(&rig, &browser).await;
    anything_is_found_by_its_name(&browser).await;
    a_phone_is_enough(&rig, &browser).await;
    whoever_may_only_look_gets_no_buttons(&rig, &browser).await;
    browser.close().await;
}

/// A works that somebody has forgotten to connect the gas analyser to.
async fn without_analyser() -> Rig {
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = fs::read_to_string(&main).unwrap();
    let (head, tail) = text.split_once("[[device]]\nname = \"gas-analyser\"").unwrap();
    let uplink = tail.split_once("[[uplink]]").unwrap().1;
    fs::write(&main, format!("{head}[[uplink]]{uplink}")).unwrap();
    fs::remove_file(Path::new(&directory).join("points/gas-analyser.csv")).unwrap();
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "digesters only"]).await;
    assert_eq!(applied.code, 0, "{}", applied.err);
    rig.until("it runs", |status| status["gateways"][0]["points_good"] == 26).await;
    rig
}

async fn step_by_step(rig: &Rig, browser: &Browser) {
    browser.open("Devices").await;
    browser.click("a[href^='/devices/add']").await;
    browser.shows("Which way leads to it?").await;
    browser.press("Go on").await;
    // The wrong unit first: nobody answers. Then the right one.
    browser.fill("Unit", "9").await;
    browser.fill("Address", "30001").await;
    browser.press("Ask it now").await;
    browser.shows("unit 9: exception 0B, gateway target device failed to respond").await;
    browser.fill("Unit", "3").await;
    browser.press("Ask it now").await;
    browser.shows("over the connection of the running link").await;
    browser.picture("reach-it").await;
    browser.press("Go on").await;
    browser.fill("Name", "gas-analyser").await;
    browser.fill("Title", "Gas analyser").await;
    browser.press("Go on").await;
    // What it was reached with is the first point already.
    browser.shows("Its points").await;
    browser.fill("Name", "ch4").await;
    browser.fill("Scale", "0.01").await;
    browser.fill("Deadband", "0.01").await;
    browser.press("Paste a list").await;
    let list = "name;address;type;unit;rate\nh2s;input:2;uint16;ppm;fast\n";
    browser.find("textarea").await.send_keys(list).await.unwrap();
    browser.press("Take over 1 point").await;
    browser.press("Go on").await;
    browser.shows("2 points in points/gas-analyser.csv").await;
    browser.press("Put it into the draft").await;
    browser.shows("device gas-analyser added: on link process-bus").await;
    browser.fill("Why", "the analyser was forgotten").await;
    browser.press("Activate the draft").await;
    browser.shows("Everything that changed is up.").await;
    browser.shows("gas-analyser: from the field to the broker").await;
    // The value at the broker is the plant's: methane in raw gas, at about half.
    wait_for("ch4 arrives at the broker", || async {
        let rows = browser.driver.find_all(By::Css("tbody tr")).await.ok()?;
        let text = rows.first()?.text().await.ok()?;
        text.contains(" ago").then_some(())
    })
    .await;
    browser.picture("add-device").await;
    rig.until("its points are good", |status| status["gateways"][0]["points_good"] == 28).await;
    let point = rig.get("/api/v1/points/alderfen-1/gas-analyser/ch4").await;
    assert!((20.0..80.0).contains(&point["value"].as_f64().unwrap()), "{point}");
}

async fn a_mistake_is_marked_at_its_field(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/devices?open=gas-analyser&tab=points&point=h2s", rig.url)).await.unwrap();
    browser.fill("Address", "input:99999").await;
    browser.press("Save to the draft").await;
    browser.shows("address is \"input:99999\"; expected coil:N").await;
    browser.open("Changes").await;
    browser.shows("1 mistake first.").await;
    // From the problem to its field.
    browser.driver.find(By::PartialLinkText("point \"h2s\": address is")).await.unwrap().click().await.unwrap();
    wait_for("its field has the focus", || async {
        let focused = browser.driver.active_element().await.ok()?;
        (focused.prop("value").await.ok()?? == "input:99999").then_some(())
    })
    .await;
    browser.fill("Address", "input:2").await;
    browser.fill("Title", "Hydrogen sulphide").await;
    browser.press("Save to the draft").await;
    browser.shows("1 change not active").await;
    browser.driver.goto(format!("{}/devices?open=gas-analyser", rig.url)).await.unwrap();
    browser.shows("2 points in 2 requests").await;
    browser.picture("devices").await;
}

async fn unsaved_work_outlives_a_reload_and_a_conflict_shows_both(rig: &Rig, browser: &Browser) {
    browser.open("Links").await;
    browser.shows("Digesters and gas analyser").await;
    browser.click("ul button[aria-pressed]").await;
    browser.fill("Timeout", "800ms").await;
    browser.shows("Not saved").await;
    browser.driver.refresh().await.unwrap();
    browser.shows("Not saved").await;
    assert_eq!(browser.field("Timeout").await.prop("value").await.unwrap().unwrap(), "800ms");
    // Meanwhile a colleague saves.
    let draft = rig.get("/api/v1/gateways/alderfen-1/draft").await;
    let link = draft["objects"].as_array().unwrap().iter().find(|object| object["class"] == "link").unwrap().clone();
    let mut content = link["content"].clone();
    content["timeout"] = "900ms".into();
    content["title"] = "Digesters and gas analyser, hall 2".into();
    let edit =
        json!({ "object": { "class": "link", "name": "process-bus" }, "version": link["version"], "content": content });
    let (status, answer) = rig.post("/api/v1/gateways/alderfen-1/draft/edits", &json!({ "edits": [edit] })).await;
    assert_eq!(status, 200, "{answer}");
    browser.press("Save to the draft").await;
    browser.shows("ada has changed this meanwhile").await;
    let table = browser.find("[role=alert] table").await.text().await.unwrap();
    assert!(table.contains("800ms") && table.contains("900ms"), "{table}");
    assert!(!table.contains("hall 2"), "only what both have changed is asked: {table}");
    browser.press("Save what is chosen").await;
    browser.shows("changed by ada").await;
    wait_for("mine is saved", || async { (!browser.text().await.contains("Not saved")).then_some(()) }).await;
    assert_eq!(browser.field("Timeout").await.prop("value").await.unwrap().unwrap(), "800ms");
    let title = browser.field("Title").await.prop("value").await.unwrap().unwrap();
    assert_eq!(title, "Digesters and gas analyser, hall 2", "what only the other changed stands");
}

async fn changes_are_looked_at_and_activated(rig: &Rig, browser: &Browser) {
    browser.open("Changes").await;
    browser.shows("timeout 500ms → 800ms").await;
    browser.shows("point h2s of gas-analyser: title none → Hydrogen sulphide").await;
    browser.picture("changes").await;
    browser.fill("Why", "slower answers allowed").await;
    browser.press("Activate the draft").await;
    browser.shows("Everything that changed is up.").await;
    browser.open("Revisions").await;
    browser.shows("slower answers allowed").await;
    browser.picture("revisions").await;
    browser.open("Audit").await;
    browser.shows("revision 3: slower answers allowed").await;
    assert_eq!(rig.status().await["gateways"][0]["revision"], 3);
}

async fn anything_is_found_by_its_name(browser: &Browser) {
    let body = browser.find("body").await;
    body.send_keys(Key::Control + "k").await.unwrap();
    browser.find("[role=combobox]").await.send_keys("mixer").await.unwrap();
    browser.shows("digester-1").await;
    browser.find("[role=combobox]").await.send_keys(Key::Enter + "").await.unwrap();
    wait_for("the point is open", || async {
        browser.driver.current_url().await.ok()?.query()?.contains("point=alderfen-1").then_some(())
    })
    .await;
    // And by two keys.
    browser.press("Close").await;
    browser.click("h1").await;
    browser.find("body").await.send_keys("gd").await.unwrap();
    browser.shows("Add a device").await;
}

async fn a_phone_is_enough(rig: &Rig, browser: &Browser) {
    browser.resize(390, 900).await;
    for (path, shown) in [
        ("/gateways?gateway=alderfen-1&open=uplink:cloud", "Sparkplug group id"),
        ("/devices?open=gas-analyser&tab=points&point=ch4", "Read it now"),
        ("/changes", "Nothing differs"),
        ("/audit", "entries"),
    ] {
        browser.driver.goto(format!("{}{path}", rig.url)).await.unwrap();
        browser.shows(shown).await;
        let wider =
            browser.driver.execute("return document.documentElement.scrollWidth > innerWidth", Vec::new()).await;
        assert!(!wider.unwrap().convert::<bool>().unwrap(), "{path} sticks out at the side of a phone");
    }
    browser.resize(1280, 943).await;
}

async fn whoever_may_only_look_gets_no_buttons(rig: &Rig, browser: &Browser) {
    let added =
        run(&["people", "add", "vera", "--role", "viewer", "--password-stdin"], &rig.home(), "heron-watch\n").await;
    assert_eq!(added.code, 0, "{}", added.err);
    browser.press("Sign out").await;
    browser.shows("Sign in").await;
    browser.sign_in(&rig.url, "vera", "heron-watch").await;
    browser.driver.goto(format!("{}/devices?open=gas-analyser&tab=settings", rig.url)).await.unwrap();
    browser.shows("Unit identifier").await;
    let text = browser.text().await;
    for word in ["Save to the draft", "Add a device", "Remove", "Audit"] {
        assert!(!text.contains(word), "{word}");
    }
}
