//! Those who watch: live streams, lists of points, and what a monitoring system reads.

use crate::harness::{Api, Who};
use interlex_store::Role;
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use tokio::time::timeout;

const SOON: Duration = Duration::from_secs(60);

/// What a stream tells, event by event.
struct Stream {
    answer: reqwest::Response,
    text: String,
}

impl Stream {
    async fn open(api: &Api, token: &str, query: &str) -> Self {
        let answer = api.send(Method::GET, &format!("/api/v1/live{query}"), Who::Token(token), None).await;
        assert_eq!(answer.status(), 200, "{query}");
        Self { answer, text: String::new() }
    }

    /// The next event: its name, and what it says.
    async fn next(&mut self) -> (String, Value) {
        loop {
            if let Some((event, rest)) = self.text.split_once("\n\n") {
                let line = |key: &str| event.lines().find_map(|line| line.strip_prefix(key)).map(str::to_owned);
                let told = line("event: ").zip(line("data: "));
                self.text = rest.to_owned();
                match told {
                    Some((name, data)) => return (name, serde_json::from_str(&data).unwrap()),
                    // A word that keeps the connection.
                    None => continue,
                }
            }
            let more = self.answer.chunk().await.unwrap().unwrap();
            self.text.push_str(std::str::from_utf8(&more).unwrap());
        }
    }

    /// Waits until the points whose values came are these, whatever the order and the number of events.
    async fn tells(&mut self, wanted: &[&str]) {
        let (wanted, mut told) = (wanted.iter().map(|id| (*id).to_owned()).collect::<BTreeSet<_>>(), BTreeSet::new());
        let telling = async {
            while told != wanted {
                let (name, data) = self.next().await;
                if name == "values" {
                    let ids =
                        data["values"].as_array().unwrap().iter().map(|value| value["id"].as_str().unwrap().to_owned());
                    told.extend(ids);
                    assert!(told.is_subset(&wanted), "{told:?} are more than {wanted:?}");
                }
            }
        };
        assert!(timeout(SOON, telling).await.is_ok(), "{told:?} of {wanted:?} came");
    }
}

async fn edit(api: &Api, token: &str, edits: Value) {
    let path = "/api/v1/gateways/alderfen-1/draft/edits";
    let (status, answer) = api.json(Method::POST, path, Who::Token(token), Some(json!({ "edits": edits }))).await;
    assert_eq!(status, 200, "{answer}");
}

async fn activate(api: &Api, token: &str) {
    let draft = api.json(Method::GET, "/api/v1/gateways/alderfen-1/draft", Who::Token(token), None).await.1;
    let wanted = json!({ "note": "on", "version": draft["version"] });
    let path = "/api/v1/gateways/alderfen-1/activations";
    let (status, answer) = api.json(Method::POST, path, Who::Token(token), Some(wanted)).await;
    assert!((200..300).contains(&status), "{answer}");
}

fn new(class: &str, list: &str, content: Value) -> Value {
    json!({ "object": { "class": class, "list": list, "name": content["name"] }, "content": content })
}

fn point(name: &str, address: &str, title: &str) -> Value {
    let content =
        json!({ "name": name, "address": address, "type": "uint16", "rate": "fast", "title": title, "unit": "%" });
    new("point", "points/tank.csv", content)
}

/// A gateway whose device is away: its points are known, and bad.
async fn describe(api: &Api, token: &str) {
    let added = json!({ "name": "alderfen-1" });
    assert_eq!(api.status(Method::POST, "/api/v1/gateways", Who::Token(token), Some(added)).await, 201);
    let edits = json!([
        new("rate", "", json!({ "name": "fast", "period": "100ms" })),
        new(
            "link",
            "",
            json!({ "name": "bus", "protocol": "modbus-tcp", "host": "127.0.0.1", "port": 1, "reconnect-limit": "1s" })
        ),
        new("device", "", json!({ "name": "tank", "link": "bus", "unit": 3, "title": "Tank \"north\"" })),
        point("level", "input:0", "How full it is"),
        point("feed", "input:1", "What comes in"),
    ]);
    edit(api, token, edits).await;
    activate(api, token).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn those_who_watch_see_what_is_there_and_what_comes() {
    let api = Api::start().await;
    let token = api.token_of("ada", Role::Engineer).await;
    describe(&api, &token).await;
    a_stream_tells_what_it_is_asked_for_once_and_what_an_activation_brings(&api, &token).await;
    a_stream_tells_what_is_in_view_and_nobody_else_says_what_that_is(&api, &token).await;
    lists_of_points_are_filtered_and_what_is_no_filter_is_refused(&api, &token).await;
    lists_of_points_come_in_pages_and_in_windows(&api, &token).await;
    what_a_monitoring_system_reads_is_well_formed(&api).await;
    api.stop().await;
}

async fn a_stream_tells_what_it_is_asked_for_once_and_what_an_activation_brings(api: &Api, token: &str) {
    let mut all = Stream::open(api, token, "").await;
    let (first, status) = all.next().await;
    assert_eq!((first.as_str(), status["gateways"][0]["name"].as_str()), ("status", Some("alderfen-1")));
    all.tells(&["alderfen-1/tank/feed", "alderfen-1/tank/level"]).await;
    let mut some = Stream::open(api, token, "?q=HOW%20FULL").await;
    some.tells(&["alderfen-1/tank/level"]).await;
    let mut none = Stream::open(api, token, "?device=silo").await;
    for _ in 0..3 {
        assert_eq!(none.next().await.0, "status", "it has nothing else to tell, and says that it lives");
    }
    edit(api, token, json!([point("mix", "input:2", "How full of mud it is")])).await;
    activate(api, token).await;
    // There are other points now: all that are asked for are told anew, and streams go on.
    all.tells(&["alderfen-1/tank/feed", "alderfen-1/tank/level", "alderfen-1/tank/mix"]).await;
    some.tells(&["alderfen-1/tank/level", "alderfen-1/tank/mix"]).await;
}

async fn a_stream_tells_what_is_in_view_and_nobody_else_says_what_that_is(api: &Api, token: &str) {
    let mut view = Stream::open(api, token, "?view=true").await;
    let (first, opened) = view.next().await;
    let path = format!("/api/v1/live/{}", opened["stream"]);
    assert_eq!(first, "opened");
    for _ in 0..2 {
        assert_eq!(view.next().await.0, "status", "nothing is in view yet");
    }
    let look = async |who: &str, points: Value| api.status(Method::PUT, &path, Who::Token(who), Some(points)).await;
    let level = json!({ "points": ["alderfen-1/tank/level", "alderfen-1/silo/level", "level"] });
    assert_eq!(look(token, level).await, 204);
    view.tells(&["alderfen-1/tank/level"]).await;
    let both = json!({ "points": ["alderfen-1/tank/level", "alderfen-1/tank/feed"] });
    assert_eq!(look(token, both.clone()).await, 204);
    view.tells(&["alderfen-1/tank/feed", "alderfen-1/tank/level"]).await;
    let other = api.token_of("mallory", Role::Administrator).await;
    assert_eq!(look(&other, both).await, 404, "a stream is another one's");
    assert_eq!(look(token, json!({ "points": vec!["a"; 1001] })).await, 400);
    drop(view);
    let none = json!({ "points": [] });
    let gone = async {
        while look(token, none.clone()).await != 404 {
            tokio::task::yield_now().await;
        }
    };
    assert!(timeout(SOON, gone).await.is_ok(), "what is closed is not known any more");
}

async fn lists_of_points_come_in_pages_and_in_windows(api: &Api, token: &str) {
    let get = async |path: &str| api.json(Method::GET, &format!("/api/v1/points{path}"), Who::Token(token), None).await;
    let (_, page) = get("?limit=2&fields=name,quality").await;
    assert_eq!(page, json!([{ "name": "level", "quality": "bad" }, { "name": "feed", "quality": "bad" }]));
    let (_, next) = get("?limit=2&after=alderfen-1/tank/feed&fields=id").await;
    assert_eq!(next, json!([{ "id": "alderfen-1/tank/mix" }]));
    assert_eq!(get("?after=alderfen-1/tank/mix").await.1, json!([]));
    for (query, says) in [
        ("?after=alderfen-1/tank/depth", "begin anew"),
        ("?fields=name,colour", "\"colour\"; expected some of id, gateway"),
        ("/window?limit=501", "expected 1 to 500"),
        ("/window?limit=0", "expected 1 to 500"),
        ("/window?quality=rotten", "or not-good"),
    ] {
        let (status, refused) = get(query).await;
        assert!(status == 400 && refused["detail"].as_str().unwrap().contains(says), "{query}: {status} {refused}");
    }
    let window = async |query: &str| {
        let told = get(&format!("/window{query}")).await.1;
        let names = told["rows"].as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned());
        (names.collect::<Vec<_>>().join(" "), told["total"].as_u64().unwrap(), told["at"].as_u64())
    };
    assert_eq!(window("").await, ("level feed mix".to_owned(), 3, None));
    assert_eq!(window("?sort=name").await.0, "feed level mix");
    assert_eq!(window("?sort=name&descending=true").await.0, "mix level feed");
    assert_eq!(window("?sort=name&from=1&limit=1").await, ("level".to_owned(), 3, None));
    assert_eq!(window("?sort=name&from=9").await.0, "");
    assert_eq!(window("?sort=quality&quality=not-good").await.0, "level feed mix", "equals stay as they are described");
    assert_eq!(window("?quality=good").await, (String::new(), 0, None));
    assert_eq!(window("?q=full&find=alderfen-1/tank/mix&limit=1").await, ("level".to_owned(), 2, Some(1)));
    assert_eq!(window("?q=full&find=alderfen-1/tank/feed").await.2, None, "the filter does not admit it");
    let (_, counts) = get("/window?q=mud").await;
    assert_eq!((&counts["all"], &counts["not_good"], &counts["total"]), (&json!(3), &json!(3), &json!(1)));
}

async fn lists_of_points_are_filtered_and_what_is_no_filter_is_refused(api: &Api, token: &str) {
    let names = async |query: &str| {
        let (status, points) = api.json(Method::GET, &format!("/api/v1/points{query}"), Who::Token(token), None).await;
        assert_eq!(status, 200, "{query}: {points}");
        let names = points.as_array().unwrap().iter().map(|point| point["name"].as_str().unwrap().to_owned());
        names.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(names("").await, "level feed mix");
    assert_eq!(names("?device=tank&q=mud").await, "mix");
    assert_eq!(names("?q=input:1").await, "feed", "by its address");
    assert_eq!(names("?q=TANK/F").await, "feed", "by device and name");
    assert_eq!((names("?quality=good").await, names("?gateway=office").await), (String::new(), String::new()));
    let path = "/api/v1/points?quality=rotten";
    let (status, refused) = api.json(Method::GET, path, Who::Token(token), None).await;
    assert_eq!(
        (status, refused["detail"].as_str().unwrap().contains("good, uncertain, bad or not-good")),
        (400, true),
        "{refused}"
    );
    let one = "/api/v1/points/alderfen-1/tank/level";
    let (status, detail) = api.json(Method::GET, one, Who::Token(token), None).await;
    assert_eq!((status, &detail["address"], &detail["value"]), (200, &json!("input:0"), &Value::Null), "{detail}");
    let gone = "/api/v1/points/alderfen-1/tank/depth";
    assert_eq!(api.status(Method::GET, gone, Who::Token(token), None).await, 404);
}

async fn what_a_monitoring_system_reads_is_well_formed(api: &Api) {
    // Open to everyone who reaches the service: it holds no values of points.
    let answer = api.send(Method::GET, "/metrics", Who::Nobody, None).await;
    assert!(answer.headers()["content-type"].to_str().unwrap().starts_with("text/plain; version=0.0.4"));
    let text = answer.text().await.unwrap();
    let (mut families, mut samples) = (BTreeMap::new(), BTreeSet::new());
    for line in text.lines() {
        if let Some(family) = line.strip_prefix("# TYPE ") {
            let (name, kind) = family.split_once(' ').unwrap();
            assert!(["counter", "gauge"].contains(&kind), "{line}");
            assert_eq!(kind == "counter", name.ends_with("_total"), "{line}");
            assert!(families.insert(name, kind).is_none(), "{name} is there twice");
        } else if !line.starts_with("# HELP ") {
            let (series, value) = line.rsplit_once(' ').unwrap();
            assert!(value.parse::<f64>().unwrap() >= 0.0, "{line}");
            assert!(families.contains_key(series.split('{').next().unwrap()), "{line} is of no family");
            assert!(samples.insert(series), "{series} is there twice");
        }
    }
    let has = |sample: &str| assert!(text.contains(sample), "{sample} in\n{text}");
    has("interlex_points{gateway=\"alderfen-1\"} 3");
    has("interlex_points_good{gateway=\"alderfen-1\"} 0");
    has("interlex_link_up{gateway=\"alderfen-1\",link=\"bus\"} 0");
    has("interlex_device_up{gateway=\"alderfen-1\",device=\"tank\"} 0");
}
