//! The console in a real browser: set-up, sign-in, Overview, Points.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, PASSWORD, PERSON, Rig, wait_for};
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_person_sets_up_signs_in_and_sees_the_plant() {
    let mut rig = Rig::bare().await;
    let browser = Browser::start().await;
    set_up(&rig, &browser).await;
    rig.sign_in().await;
    let applied = rig.interlex(&["config", "apply", &rig.description().await, "--activate", "--note", "first"]).await;
    assert_eq!(applied.code, 0, "{}", applied.err);
    overview(&rig, &browser).await;
    points(&browser).await;
    an_outage_leaves_the_page_as_it_is(&rig, &browser).await;
    a_session_that_ends_is_renewed_on_the_spot(&browser).await;
    sign_out_and_in(&browser).await;
    phone_and_dark(&browser).await;
    stays_quiet(&browser).await;
    browser.close().await;
}

async fn set_up(rig: &Rig, browser: &Browser) {
    browser.driver.goto(&rig.url).await.unwrap();
    browser.shows("Name the administrator").await;
    browser.driver.goto(&rig.setup_link().await).await.unwrap();
    browser.field("Name").await.send_keys(PERSON).await.unwrap();
    browser.field("Password").await.send_keys(PASSWORD).await.unwrap();
    browser.field("Password again").await.send_keys("something else").await.unwrap();
    browser.shows("The two passwords differ.").await;
    browser.picture("set-up").await;
    let again = browser.field("Password again").await;
    again.send_keys(Key::Control + "a").await.unwrap();
    again.send_keys(PASSWORD).await.unwrap();
    browser.press("Set up and sign in").await;
    browser.shows("No gateway runs").await;
}

async fn overview(rig: &Rig, browser: &Browser) {
    browser.shows("Everything runs.").await;
    browser.shows("36 of 36").await;
    // The rates count the last ten seconds.
    rig.until("the rates have settled", |s| s["gateways"][0]["links"][0]["requests_per_second"].as_f64() > Some(22.0))
        .await;
    browser.picture("overview").await;
    rig.fault("gas-analyser", "silent", true).await;
    browser.shows("1 part not running").await;
    browser.shows("no answer within 500ms, asked 2 times").await;
    browser.picture("overview-silent").await;
    rig.fault("gas-analyser", "silent", false).await;
    browser.shows("Everything runs.").await;
}

async fn points(browser: &Browser) {
    browser.click("nav a[href='/points']").await;
    browser.shows("All devices").await;
    browser.shows("36 points").await;
    browser.driver.active_element().await.unwrap().send_keys("/").await.unwrap();
    browser.driver.active_element().await.unwrap().send_keys("ch4").await.unwrap();
    browser.shows("1 of 36 points").await;
    browser.click("[role=row][aria-rowindex='2']").await;
    browser.shows("Methane in raw gas").await;
    browser.find("[role=img] canvas").await;
    let address = browser.driver.current_url().await.unwrap();
    assert_eq!(address.query(), Some("q=ch4&point=alderfen-1%2Fgas-analyser%2Fch4"), "a link shows the same");
    // Without the filter, the arrow goes on to the next row.
    let search = browser.find("input[type=search]").await;
    search.send_keys(Key::Control + "a").await.unwrap();
    search.send_keys(Key::Delete).await.unwrap();
    wait_for("all are shown", || async { (!browser.text().await.contains("of 36 points")).then_some(()) }).await;
    browser.shows("36 points").await;
    browser.find("[role=grid]").await.send_keys(Key::Down).await.unwrap();
    browser.shows("Carbon dioxide in raw gas").await;
    // A value that moves is drawn anew without a reload.
    let cell = "[role=row][aria-selected=true] [role=gridcell]:nth-child(6)";
    let before = browser.find(cell).await.text().await.unwrap();
    wait_for("ages tick", || async { (browser.find(cell).await.text().await.ok()? != before).then_some(()) }).await;
    browser.picture("points").await;
    browser.press("Close").await;
    browser.press("Quality").await;
    let sorted = browser.find("[role=columnheader][aria-sort=ascending]").await;
    assert_eq!(sorted.text().await.unwrap(), "Quality ↑");
    browser.click("nav a[href='/api-reference']").await;
    browser.shows("/api/v1/points/{gateway}/{device}/{point}").await;
    browser.picture("api").await;
}

/// The service stands still without a word, as behind a network that swallows everything.
async fn an_outage_leaves_the_page_as_it_is(rig: &Rig, browser: &Browser) {
    browser.click("nav a[href='/points']").await;
    browser.shows("All devices").await;
    browser.shows("36 points").await;
    rig.freeze(true);
    browser.shows("The service does not answer").await;
    browser.shows("was good").await;
    browser.find(":root[data-live=lost] .reading").await;
    browser.picture("points-lost").await;
    rig.freeze(false);
    browser.find(":root[data-live=live]").await;
    wait_for("the banner is gone", || async { (!browser.text().await.contains("does not answer")).then_some(()) })
        .await;
}

async fn a_session_that_ends_is_renewed_on_the_spot(browser: &Browser) {
    browser.click("nav a[href='/gateways']").await;
    let name = browser.field("Name of a new gateway").await;
    name.send_keys("works-2").await.unwrap();
    browser.driver.execute("fetch('/api/v1/session', { method: 'DELETE' })", Vec::new()).await.unwrap();
    browser.shows("Sign in again").await;
    browser.picture("sign-in-again").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    wait_for("the form as it was", || async {
        let is_over = !browser.text().await.contains("Sign in again");
        (is_over && name.prop("value").await.ok()?? == "works-2").then_some(())
    })
    .await;
    browser.press("Add").await;
    browser.shows("works-2").await;
}

async fn sign_out_and_in(browser: &Browser) {
    browser.press("Sign out").await;
    browser.shows("Sign in").await;
    browser.field("Name").await.send_keys(PERSON).await.unwrap();
    browser.field("Password").await.send_keys("wrong-one").await.unwrap();
    browser.press("Sign in").await;
    browser.shows("name and password do not fit").await;
    let password = browser.field("Password").await;
    password.send_keys(Key::Control + "a").await.unwrap();
    password.send_keys(PASSWORD).await.unwrap();
    browser.press("Sign in").await;
    browser.find("nav").await;
}

async fn phone_and_dark(browser: &Browser) {
    browser.press("Dark colours").await;
    browser.click("nav a[href='/points']").await;
    browser.shows("All devices").await;
    browser.shows("36 points").await;
    browser.press("Light colours").await;
    browser.resize(390, 900).await;
    browser.picture("points-phone").await;
    browser.click("nav a[href='/']").await;
    browser.shows("Everything runs.").await;
    let wider = browser.driver.execute("return document.documentElement.scrollWidth > innerWidth", Vec::new()).await;
    assert!(!wider.unwrap().convert::<bool>().unwrap(), "nothing sticks out at the side of a phone");
}

/// No page asks another machine for anything, and none breaks the content policy.
async fn stays_quiet(browser: &Browser) {
    let script = "return performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith(origin))";
    let foreign: Vec<String> = browser.driver.execute(script, Vec::new()).await.unwrap().convert().unwrap();
    assert_eq!(foreign, Vec::<String>::new());
}
