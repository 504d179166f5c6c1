//! Hands on the keyboard: points in a grid, copies of a device, a loop check; and an automatic check of accessibility on every page.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, PASSWORD, PERSON, Rig, wait_for};
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn points_are_edited_copied_and_checked_by_hand() {
    let rig = Rig::start().await;
    let browser = Browser::start().await;
    browser.sign_in(&rig.url, PERSON, PASSWORD).await;
    every_page_is_accessible(&rig, &browser).await;
    a_grid_is_typed_into_filled_down_and_taken_back(&rig, &browser).await;
    copies_of_a_device_are_added_in_one_step(&rig, &browser).await;
    a_list_from_a_manual_is_taken_over_by_the_client(&rig).await;
    a_loop_check_is_gone_through_and_handed_over(&rig, &browser).await;
    browser.close().await;
}

async fn every_page_is_accessible(rig: &Rig, browser: &Browser) {
    let device = "/devices?gateway=alderfen-1&open=gas-analyser";
    let pages = [
        ("/", "What needs"),
        ("/points?point=alderfen-1/gas-analyser/ch4", "Last minutes"),
        ("/events", "Events"),
        ("/frames", "Frames"),
        ("/buffer", "Waiting"),
        ("/loop-checks", "Begin one"),
        ("/outages", "Outages"),
        ("/tap", "Tap"),
        ("/gateways?gateway=alderfen-1&open=uplink:cloud", "Sparkplug group id"),
        ("/links?gateway=alderfen-1&open=process-bus", "Timeout"),
        (&format!("{device}&tab=points&point=ch4"), "Read it now"),
        (&format!("{device}&tab=line"), "Requests"),
        (&format!("{device}&tab=settings"), "Save to the draft"),
        ("/devices/add?gateway=alderfen-1", "Which way leads to it?"),
        ("/devices/add?gateway=alderfen-1&step=3", "A model"),
        ("/models", "To start from"),
        ("/changes", "Check"),
        ("/revisions", "Revisions"),
        ("/people", "People"),
        ("/audit", "entries"),
        ("/api-reference", "API"),
    ];
    for (page, shown) in pages {
        browser.driver.goto(format!("{}{page}", rig.url)).await.unwrap();
        if page != "/" {
            browser.shows_any_case(shown).await;
        }
        browser.find("main h1").await;
        assert_eq!(browser.axe().await, Vec::<String>::new(), "{page}");
    }
}

async fn a_grid_is_typed_into_filled_down_and_taken_back(rig: &Rig, browser: &Browser) {
    let scales = async || {
        let points = rig.get("/api/v1/gateways/alderfen-1/draft/points?list=points/gas-analyser.csv").await;
        points.as_array().unwrap().iter().take(3).map(|point| point["content"]["unit"].to_string()).collect::<Vec<_>>()
    };
    let before = scales().await;
    browser.driver.goto(format!("{}/devices?gateway=alderfen-1&open=gas-analyser&tab=points", rig.url)).await.unwrap();
    browser.shows("Value now").await;
    // From the filter, one key leads to the grid.
    browser.find("[aria-label='Filter the list']").await.send_keys(Key::Down + "").await.unwrap();
    let focused = async || browser.driver.active_element().await.unwrap();
    for key in [Key::Right, Key::Right, Key::Right, Key::Right] {
        focused().await.send_keys(key + "").await.unwrap();
    }
    focused().await.send_keys("Vol-%").await.unwrap();
    focused().await.send_keys(Key::Enter + "").await.unwrap();
    wait_for("the cell is in the draft", || async { (scales().await[0] == "\"Vol-%\"").then_some(()) }).await;
    focused().await.send_keys(Key::Up + "").await.unwrap();
    focused().await.send_keys(Key::Shift + Key::Down).await.unwrap();
    focused().await.send_keys(Key::Shift + Key::Down).await.unwrap();
    focused().await.send_keys(Key::Control + "d").await.unwrap();
    wait_for("it is filled down", || async { (scales().await == ["\"Vol-%\""; 3]).then_some(()) }).await;
    browser.shows("points saved to the draft").await;
    focused().await.send_keys(Key::Control + "z").await.unwrap();
    wait_for("that is taken back", || async { (scales().await[1..] == before[1..]).then_some(()) }).await;
    focused().await.send_keys(Key::Control + "z").await.unwrap();
    wait_for("all is as before", || async { (scales().await == before).then_some(()) }).await;
}

async fn copies_of_a_device_are_added_in_one_step(rig: &Rig, browser: &Browser) {
    browser.press("Make copies").await;
    let many = browser.find("form[aria-label^='Copies of'] input").await;
    many.send_keys(Key::Control + "a").await.unwrap();
    many.send_keys("3").await.unwrap();
    browser.press("Add 3 devices to the draft").await;
    browser.shows("3 devices added to the draft").await;
    let draft = rig.get("/api/v1/gateways/alderfen-1/draft").await;
    let devices = draft["objects"].as_array().unwrap().iter().filter(|object| object["class"] == "device");
    let copies: Vec<_> =
        devices.filter(|device| device["name"].as_str().unwrap().starts_with("gas-analyser-")).collect();
    let told = |key: &str| copies.iter().map(|copy| copy["content"][key].to_string()).collect::<Vec<_>>();
    assert_eq!(
        (told("unit"), told("points")),
        (vec!["4".into(), "5".into(), "6".into()], vec!["\"points/gas-analyser.csv\"".to_owned(); 3])
    );
    let checked = rig.get("/api/v1/gateways/alderfen-1/draft/check").await;
    assert_eq!(checked["mistakes"], 0, "{checked}");
    let version = draft["version"].as_u64().unwrap();
    assert_eq!(rig.interlex(&["draft", "discard", "--yes"]).await.code, 0, "{version}");
}

async fn a_list_from_a_manual_is_taken_over_by_the_client(rig: &Rig) {
    let directory = tempfile::tempdir().unwrap();
    let file = directory.path().join("manual.csv").display().to_string();
    std::fs::write(
        &file,
        "Register;Data type;Description;Factor;Page\n40;WORD;Gas temperature;0,1;12\n42;REAL;Dew point;;13\n",
    )
    .unwrap();
    let import =
        async |more: &[&str]| rig.interlex(&[&["draft", "import", "gas-analyser", &file], more].concat()).await;
    let asked = import(&["--dry-run"]).await;
    assert!(
        asked
            .out
            .contains("Register → address, Data type → type, Description → title, Factor → scale, Page is left out"),
        "{asked:?}"
    );
    assert!(asked.out.contains("2 rows have no rate: say --rate"), "{asked:?}");
    let refused = import(&[]).await;
    assert!(refused.code != 0 && refused.err.contains("2 rows have no rate"), "{refused:?}");
    let taken = import(&["--rate", "fast", "--table", "holding"]).await;
    assert_eq!((taken.code, taken.out.contains("+ gas-temperature")), (0, true), "{taken:?}");
    let points = rig.get("/api/v1/gateways/alderfen-1/draft/points?list=points/gas-analyser.csv").await;
    let new = points.as_array().unwrap().iter().find(|point| point["name"] == "gas-temperature").unwrap();
    let content = &new["content"];
    let told = ["address", "type", "scale", "title"].map(|key| content[key].to_string());
    assert_eq!(told, ["\"holding:40\"", "\"uint16\"", "0.1", "\"Gas temperature\""]);
    assert_eq!(rig.interlex(&["draft", "discard", "--yes"]).await.code, 0);
}

async fn a_loop_check_is_gone_through_and_handed_over(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/loop-checks?gateway=alderfen-1&device=gas-analyser", rig.url)).await.unwrap();
    browser.press("Begin").await;
    browser.shows("1 of 10").await;
    // The field is where the hands are: what the display shows, and on with Enter.
    let focused = async || browser.driver.active_element().await.unwrap();
    focused().await.send_keys("99,9").await.unwrap();
    focused().await.send_keys(Key::Enter + "").await.unwrap();
    browser.shows("2 of 10").await;
    assert_eq!(browser.axe().await, Vec::<String>::new(), "the steps of a loop check");
    browser.press("Agrees").await;
    browser.shows("3 of 10").await;
    browser.press("Skip").await;
    browser.shows("4 of 10").await;
    browser.driver.refresh().await.unwrap();
    browser.shows("3 of 10 points: 1 agree, 1 differ, 1 skipped").await;
    // A colleague goes on from a terminal, and closes it.
    let noted = rig
        .interlex(&["loop-check", "note", "1", "gas-analyser/purge", "--result", "agrees", "--note", "heard it"])
        .await;
    assert!(noted.code == 0 && noted.out.starts_with("gas-analyser/purge agrees"), "{noted:?}");
    assert_eq!(rig.interlex(&["loop-check", "close", "1"]).await.code, 0);
    let late = rig.interlex(&["loop-check", "note", "1", "gas-analyser/o2", "--result", "agrees"]).await;
    assert!(late.code != 0 && late.err.contains("is closed"), "{late:?}");
    let sheet = rig.interlex(&["loop-check", "sheet", "1", "--form", "csv"]).await;
    let line = |point: &str| {
        sheet.out.lines().find(|line| line.starts_with(&format!("gas-analyser,{point},"))).unwrap().to_owned()
    };
    assert!(line("ch4").contains(",differs,\"99,9\","), "{sheet:?}");
    assert!(line("purge").contains(",agrees,,") && line("purge").contains(",heard it,ada,"), "{sheet:?}");
    assert!(line("o2").contains(",not checked,"), "what nobody looked at is on the sheet: {sheet:?}");
    let page = rig.interlex(&["loop-check", "sheet", "1", "--form", "html"]).await;
    assert!(page.out.contains("10 points: 2 agree, 1 differ, 1 skipped, 6 not checked."), "{page:?}");
}
