//! In front of a cabinet with a meter whose manual is unclear: the story of the commissioning bench, in a real browser.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Browser, Host, PASSWORD, PERSON, Rig, wait_for};
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn an_unclear_meter_is_found_out_named_and_seen_at_the_broker() {
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let description = rig.description_with_line().await;
    without_its_list(&description, "heat-meter-network");
    let out = rig.interlex(&["config", "apply", &description, "--activate", "--note", "a new meter"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    rig.until("the others are good", |status| status["gateways"][0]["points_good"] == 45).await;
    let host = Host::listen(rig.broker.address()).await;
    let browser = Browser::start().await;
    browser.driver.goto(&rig.url).await.unwrap();
    browser.field("Name").await.send_keys(PERSON).await.unwrap();
    browser.field("Password").await.send_keys(PASSWORD).await.unwrap();
    browser.press("Sign in").await;
    browser.shows("1 point not good").await;
    the_word_order_is_found_in_one_look(&rig, &browser).await;
    a_list_is_taken_over_and_changed_in_one_go(&rig, &browser).await;
    activated_its_values_arrive(&rig, &browser, &host).await;
    the_line_shows_what_goes_over_it(&rig, &browser).await;
    what_a_device_has_is_chosen_from(&rig, &browser).await;
    a_command_goes_back(&rig, &browser).await;
    browser.close().await;
}

/// The device has nothing but its unit yet.
fn without_its_list(description: &str, device: &str) {
    let file = std::path::Path::new(description).join("gateway.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let (before, own) = text.split_once(&format!("name = \"{device}\"")).unwrap();
    let own = own.replacen("points = \"points/heat-meter.csv\"\n", "", 1);
    std::fs::write(file, format!("{before}name = \"{device}\"{own}")).unwrap();
    let list = std::path::Path::new(description).join(format!("points/{device}.csv"));
    std::fs::write(list, "name,address,type,rate\n").unwrap();
}

async fn the_word_order_is_found_in_one_look(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/devices?open=heat-meter-network&tab=line", rig.url)).await.unwrap();
    browser.press("Ask who it is").await;
    browser.shows("Alderfen Instruments").await;
    browser.driver.goto(format!("{}/devices?open=heat-meter-network&tab=points&point=", rig.url)).await.unwrap();
    browser.fill("Name", "flow").await;
    // The manual counts from one and says nothing about the word order.
    browser.fill("Address", "30004").await;
    rig.set_plant_running(false).await;
    let flow = rig.truth().await["heat-meter-network"]["flow"].as_f64().unwrap();
    let display = "//label[contains(., 'Its display shows')]//input";
    browser.driver.find(By::XPath(display)).await.unwrap().send_keys(format!("{flow:.3}")).await.unwrap();
    browser.press("Read it now").await;
    browser.shows("with scale 1").await;
    let row = browser.find("details[open] tbody tr").await.text().await.unwrap();
    assert!(row.starts_with("input:2 float32 CDAB"), "{row}");
    let heading = "//summary[normalize-space()='Read otherwise, and one address off']";
    let script = "arguments[0].scrollIntoView({block: 'center'})";
    let element = browser.driver.find(By::XPath(heading)).await.unwrap();
    browser.driver.execute(script, vec![element.to_json().unwrap()]).await.unwrap();
    browser.picture("trial").await;
    rig.set_plant_running(true).await;
}

async fn a_list_is_taken_over_and_changed_in_one_go(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/devices?open=heat-meter-network&tab=points", rig.url)).await.unwrap();
    browser.press("Take over a list").await;
    let sheet = "Name;Address;Type;Order;Scale;Unit;Rate\nflow-temperature;30001;int16;;0,1;°C;normal\nreturn-temperature;30002;int16;;0,1;°C;normal\nflow;30003;float32;CDAB;;m³/h;normal\npower;30005;float32;CDAB;;kW;normal\nenergy;30007;uint32;CDAB;;kWh;norml\n";
    let text = browser.find("textarea").await;
    text.send_keys(sheet).await.unwrap();
    browser.shows("line 6, column 31").await;
    browser.shows("there is no rate \"norml\"; expected \"normal\"?").await;
    browser.shows("5 added, 0 changed, 0 removed, 0 the same; 1 mistake first").await;
    text.send_keys(Key::Backspace + Key::Backspace + "al").await.unwrap();
    browser.shows("5 added, 0 changed, 0 removed, 0 the same").await;
    wait_for("the mistake is gone", || async { (!browser.text().await.contains("mistake first")).then_some(()) }).await;
    browser.press("Take over into the draft").await;
    browser.shows("Value now").await;
    browser.tick("input[aria-label='Choose all that are shown']").await;
    browser.shows("5 points chosen").await;
    let pick = browser.find("select[aria-label='New Rate']").await;
    pick.send_keys("fast").await.unwrap();
    browser.press("Set for all").await;
    let rates = async || {
        let list = "/api/v1/gateways/alderfen-1/draft/points?list=points/heat-meter-network.csv";
        let points = rig.get(list).await;
        points.as_array().unwrap().iter().map(|point| point["content"]["rate"].clone()).collect::<Vec<_>>()
    };
    wait_for("all are fast", || async {
        let rates = rates().await;
        (rates.len() == 5 && rates.iter().all(|rate| rate == "fast")).then_some(())
    })
    .await;
}

async fn activated_its_values_arrive(rig: &Rig, browser: &Browser, host: &Host) {
    let from = host.all().len();
    browser.open("Changes").await;
    browser.fill("Why", "the meter's points").await;
    browser.press("Activate the draft").await;
    rig.until("its points are good", |status| status["gateways"][0]["points_good"] == 50).await;
    let birth = host
        .hears("the meter's birth", from, |message| {
            message.kind == "DBIRTH"
                && message.device.as_deref() == Some("heat-meter-network")
                && message.metrics.iter().filter(|metric| metric.value.is_some()).count() == 5
        })
        .await;
    let birth = host.all()[birth].clone();
    let unit =
        |name: &str| birth.metrics.iter().find(|m| m.name.as_deref() == Some(name)).unwrap().properties["unit"].clone();
    assert_eq!((unit("flow"), unit("power")), ("m³/h".to_owned(), "kW".to_owned()));
}

async fn the_line_shows_what_goes_over_it(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/devices?open=gas-meter&tab=line", rig.url)).await.unwrap();
    browser.shows("device exception 02, illegal data address").await;
    browser.shows("Some had to be cut").await;
    browser.picture("device-line").await;
    browser.press("Try the whole ones again").await;
    browser.open("Models").await;
    browser.shows("changed once, it changes for").await;
    browser.picture("models").await;
    browser.open("Frames").await;
    browser.shows("read input registers 0 to").await;
    browser.find("select[aria-label=Link]").await.send_keys("meter-line").await.unwrap();
    browser.shows("heat-meter-digesters").await;
    browser.tick("input[type=checkbox]").await;
    browser.shows("exception 02, illegal data address (read holding registers").await;
    browser.tick("input[type=checkbox]").await;
    browser.shows("read input registers 0 to 7").await;
    browser.picture("frames").await;
    browser.resize(390, 900).await;
    let wider = browser.driver.execute("return document.documentElement.scrollWidth > innerWidth", Vec::new()).await;
    assert!(!wider.unwrap().convert::<bool>().unwrap(), "nothing sticks out at the side of a phone");
    browser.resize(1280, 943).await;
    browser.driver.goto(format!("{}/links?open=meter-line", rig.url)).await.unwrap();
    browser.shows("The line is busy").await;
    let offered = "section[aria-label='What is offered'] [data-field=first] input";
    browser.find(offered).await.send_keys("11").await.unwrap();
    browser.press("Which units answer").await;
    for unit in ["unit 11:", "unit 12:", "unit 13:"] {
        browser.shows(unit).await;
    }
    browser.press("End it").await;
    browser.shows("Ended before its end.").await;
}

/// Nobody has a list of the device: its addresses are looked for, some chosen and named, and put into two lists at once.
async fn what_a_device_has_is_chosen_from(rig: &Rig, browser: &Browser) {
    browser.driver.goto(format!("{}/devices?open=gas-meter&tab=line", rig.url)).await.unwrap();
    browser.shows("What does it have?").await;
    browser.find("section[aria-label='What is offered'] [data-field=last] input").await.send_keys("30").await.unwrap();
    browser.press("Look now").await;
    browser.shows("6 points").await;
    browser.find("input[aria-label='Filter what is offered']").await.send_keys("holding:1").await.unwrap();
    browser.press("Choose these 6").await;
    browser.tick("input[aria-label='holding/12']").await;
    browser.shows("5 points chosen").await;
    browser.find("input[aria-label='Prefix of the names']").await.send_keys("raw-").await.unwrap();
    let parts = "//label[contains(., 'Names from')]//select";
    browser.driver.find(By::XPath(parts)).await.unwrap().send_keys("the last part").await.unwrap();
    browser.shows("raw-15").await;
    let other = "//fieldset//label[normalize-space()='heat-meter-network']//input";
    browser.driver.find(By::XPath(other)).await.unwrap().click().await.unwrap();
    browser.shows("points/heat-meter-network.csv").await;
    let panel = browser.find("section[aria-label='What is offered']").await.to_json().unwrap();
    browser.driver.execute("arguments[0].scrollIntoView()", vec![panel]).await.unwrap();
    browser.picture("offers").await;
    browser.press("Put them into the draft").await;
    browser.shows("They are in the draft.").await;
    for list in ["points/gas-meter.csv", "points/heat-meter-network.csv"] {
        let points = rig.get(&format!("/api/v1/gateways/alderfen-1/draft/points?list={list}")).await;
        let points = points.as_array().unwrap();
        let of =
            |name: &str| points.iter().find(|point| point["name"] == name).map(|point| &point["content"]["address"]);
        assert_eq!((of("raw-10"), of("raw-12")), (Some(&"holding:10".into()), None), "{list}");
    }
    let out = rig.interlex(&["draft", "discard", "--yes"]).await;
    assert_eq!(out.code, 0, "{out:?}");
}

async fn a_command_goes_back(rig: &Rig, browser: &Browser) {
    let point = "alderfen-1%2Fdigester-1%2Ftemperature-set-point";
    browser.driver.goto(format!("{}/points?point={point}", rig.url)).await.unwrap();
    browser.shows("Wanted temperature").await;
    let field = browser.find("input[aria-label='New value of temperature-set-point']").await;
    field.send_keys("60").await.unwrap();
    browser.press("Write").await;
    browser.press("Write it").await;
    browser.shows("60 is above its high limit 50").await;
    field.send_keys(Key::Control + "a").await.unwrap();
    field.send_keys("43,5").await.unwrap();
    browser.press("Write").await;
    browser.press("Write it").await;
    browser.shows("Written, reads back 43.5 °C").await;
    assert_eq!(rig.truth().await["digester-1"]["temperature-set-point"].as_f64(), Some(43.5));
}
