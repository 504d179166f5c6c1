//! Drafts, differences, activations, revisions, and what the audit trail says of them.

use crate::harness::{Api, Who};
use interlex_store::Role;
use reqwest::Method;
use serde_json::{Value, json};

/// An engineer at work.
struct Engineer<'a> {
    api: &'a Api,
    token: String,
    gateway: &'static str,
}

impl Engineer<'_> {
    async fn call(&self, method: Method, path: &str, body: Option<Value>) -> (u16, Value) {
        let path = format!("/api/v1/gateways/{}{path}", self.gateway);
        self.api.json(method, &path, Who::Token(&self.token), body).await
    }

    async fn get(&self, path: &str) -> Value {
        let (status, value) = self.call(Method::GET, path, None).await;
        assert_eq!(status, 200, "{path}: {value}");
        value
    }

    async fn draft(&self) -> Value {
        self.get("/draft").await
    }

    /// An object of the draft with its version.
    async fn object(&self, class: &str, name: &str) -> Value {
        let draft = self.draft().await;
        let objects = draft["objects"].as_array().unwrap().clone();
        objects.into_iter().find(|object| object["class"] == class && object["name"] == name).unwrap_or_default()
    }

    async fn edit(&self, edits: Value) -> (u16, Value) {
        self.call(Method::POST, "/draft/edits", Some(json!({ "edits": edits }))).await
    }

    async fn add(&self, class: &str, list: &str, content: Value) {
        let object = json!({ "class": class, "list": list, "name": content["name"] });
        let (status, answer) = self.edit(json!([{ "object": object, "content": content }])).await;
        assert_eq!(status, 200, "{answer}");
    }

    async fn change(&self, class: &str, name: &str, key: &str, to: Value) -> (u16, Value) {
        let object = self.object(class, name).await;
        let mut content = object["content"].clone();
        content[key] = to;
        self.edit(
            json!([{ "object": { "class": class, "name": name }, "version": object["version"], "content": content }]),
        )
        .await
    }

    async fn activate(&self, note: &str) -> (u16, Value) {
        let version = self.draft().await["version"].clone();
        self.call(Method::POST, "/activations", Some(json!({ "version": version, "note": note }))).await
    }

    async fn problems(&self) -> Vec<String> {
        let result = self.get("/draft/check").await;
        let problems = result["problems"].as_array().unwrap().iter();
        let text = |problem: &Value, key: &str| problem[key].as_str().unwrap().to_owned();
        problems
            .map(|p| format!("{} {}: {}", text(&p["target"], "name"), text(p, "field"), text(p, "message")))
            .collect()
    }
}

const PASSWORD: &str = "heron-over-the-digester";

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_is_described_checked_compared_activated_and_taken_back() {
    let api = Api::start().await;
    let token = api.token_of("ada", Role::Engineer).await;
    let ada = Engineer { api: &api, token, gateway: "heat" };
    let added =
        api.json(Method::POST, "/api/v1/gateways", Who::Token(&ada.token), Some(json!({ "name": "heat" }))).await;
    assert_eq!(added.0, 201, "{added:?}");
    let (status, problem) =
        api.json(Method::POST, "/api/v1/gateways", Who::Token(&ada.token), Some(json!({ "name": "a/b" }))).await;
    assert_eq!((status, problem["problems"][0]["field"].as_str()), (422, Some("name")));

    describe(&ada).await;
    two_editors_do_not_overwrite_each_other(&ada).await;
    renaming_takes_along_whoever_names_it(&ada).await;
    mistakes_are_told_by_field_and_nothing_starts(&ada).await;
    activation_is_of_what_was_looked_at(&ada).await;
    an_earlier_revision_comes_back_under_a_new_number(&ada).await;
    edits_can_be_thrown_away(&ada).await;
    secrets_are_nowhere_to_be_read(&ada).await;
    the_trail_tells_all_of_it(&ada).await;
    a_second_gateway_may_not_take_the_same_node(&ada).await;
    removing_a_gateway_stops_it(&ada).await;
    api.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_that_is_read_again_is_what_it_was_however_it_came_about() {
    let mut api = Api::start().await;
    let token = api.token_of("ada", Role::Engineer).await;
    let added = json!({ "name": "heat" });
    assert_eq!(api.status(Method::POST, "/api/v1/gateways", Who::Token(&token), Some(added)).await, 201);
    files_come_in_parts(&Engineer { api: &api, token: token.clone(), gateway: "heat" }).await;
    api = is_the_same_after_a_restart(api, &token).await;
    let ada = Engineer { api: &api, token: token.clone(), gateway: "heat" };
    let list = "points/pump.csv";
    let point = async |name: &str| {
        let points = ada.get("/draft/points?list=points/pump.csv").await;
        points.as_array().unwrap().iter().find(|point| point["name"] == *name).unwrap().clone()
    };
    let (two, three, four) = (point("value-2").await, point("value-3").await, point("value-4").await);
    let with = |point: &Value, key: &str, to: Value| {
        let mut content = point["content"].clone();
        content[key] = to;
        json!({ "object": { "class": "point", "list": list, "name": point["name"] }, "version": point["version"], "content": content })
    };
    let gone = |point: &Value| json!({ "object": { "class": "point", "list": list, "name": point["name"] }, "version": point["version"], "content": null });
    // Names that swap, one that goes and comes again, one that is new, and a link that everybody follows.
    assert_eq!(
        ada.edit(json!([with(&two, "name", "spare".into()), with(&three, "name", "value-2".into())])).await.0,
        200
    );
    let spare = point("spare").await;
    assert_eq!(ada.edit(json!([with(&spare, "name", "value-3".into()), gone(&four)])).await.0, 200);
    ada.add("point", list, json!({ "name": "value-4", "address": "holding:99", "type": "uint16", "rate": "fast" }))
        .await;
    assert_eq!(ada.change("link", "bus", "name", "field-bus".into()).await.0, 200);
    api = is_the_same_after_a_restart(api, &token).await;
    let ada = Engineer { api: &api, token: token.clone(), gateway: "heat" };
    let (status, activated) = ada.activate("first").await;
    assert_eq!(status, 201, "{activated}");
    api = is_the_same_after_a_restart(api, &token).await;
    // An import is edits of the list, and stands beside those of others.
    let ada = Engineer { api: &api, token: token.clone(), gateway: "heat" };
    assert_eq!(ada.change("device", "pump", "title", "Pump".into()).await.0, 200);
    let version = ada.draft().await["version"].clone();
    let text = "name,address,type,rate,unit\nvalue-7,holding:7,uint16,fast,bar\nnew,holding:200,uint16,fast,%\n";
    let import = json!({ "list": list, "text": text, "version": version });
    let (status, told) = ada.call(Method::POST, "/draft/import", Some(import)).await;
    assert_eq!(
        (status, told["added"].clone(), told["changed"][0]["name"].clone()),
        (200, json!(["new"]), json!("value-7")),
        "{told}"
    );
    assert_eq!(ada.draft().await["changes"], 3);
    api = is_the_same_after_a_restart(api, &token).await;
    api.stop().await;
}

async fn files_come_in_parts(ada: &Engineer<'_>) {
    let main = "[gateway]\nname = \"heat\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\n\
                port = 1\n[[device]]\nname = \"pump\"\nlink = \"bus\"\nunit = 3\n";
    let row = |at: usize| format!("value-{at},holding:{at},uint16,fast\n");
    let rows: String = (0..60).map(row).collect();
    let begun = ada.call(Method::POST, "/draft/uploads", None).await;
    assert_eq!(begun.0, 201, "{begun:?}");
    let upload = format!("/draft/uploads/{}", begun.1["upload"]);
    let part = async |path: &str, at: usize, text: &str| {
        let parts = json!({ "parts": [{ "path": path, "at": at, "text": text }] });
        ada.call(Method::PUT, &upload, Some(parts)).await
    };
    let head = "name,address,type,rate\n";
    let both = [
        json!({ "path": "gateway.toml", "at": 0, "text": main }),
        json!({ "path": "points/pump.csv", "at": 0, "text": head }),
    ];
    assert_eq!(ada.call(Method::PUT, &upload, Some(json!({ "parts": both }))).await.0, 200);
    let (status, refused) = part("points/pump.csv", 99, &rows).await;
    assert!(status == 409 && refused["detail"].as_str().unwrap().contains("expected at 23, not 99"), "{refused}");
    assert_eq!(part("points/pump.csv", head.len(), &rows).await.0, 200);
    assert_eq!(part("points/pump.csv", head.len(), &rows).await.1["bytes"], main.len() + head.len() + rows.len());
    let version = ada.draft().await["version"].clone();
    let stale = ada.call(Method::POST, &upload, Some(json!({ "version": 99 }))).await;
    assert_eq!(stale.0, 409, "the draft is to be looked at anew, and what has come stays");
    let (status, told) = ada.call(Method::POST, &upload, Some(json!({ "version": version }))).await;
    assert_eq!((status, told["mistakes"].as_u64()), (200, Some(0)), "{told}");
    let again = json!({ "version": told["version"] });
    assert_eq!(ada.call(Method::POST, &upload, Some(again)).await.0, 404, "it is over");
    assert_eq!(ada.draft().await["lists"][0]["points"], 60);
    let page = ada.get("/draft/points?list=points/pump.csv&after=value-57&limit=9").await;
    assert_eq!(
        page.as_array().unwrap().iter().map(|point| point["name"].clone()).collect::<Vec<_>>(),
        ["value-58", "value-59"]
    );
}

/// What is kept in memory is what the database has.
async fn is_the_same_after_a_restart(api: Api, token: &str) -> Api {
    let all = async |api: &Api| {
        let ada = Engineer { api, token: token.to_owned(), gateway: "heat" };
        let [draft, points, check] = [ada.draft().await, ada.get("/draft/points").await, ada.get("/draft/check").await];
        (draft, points, check, ada.get("/draft/files").await)
    };
    let before = all(&api).await;
    let api = api.restart().await;
    assert_eq!(all(&api).await, before);
    api
}

async fn describe(ada: &Engineer<'_>) {
    ada.add("rate", "", json!({ "period": "500ms", "name": "fast", "colour": "red" })).await;
    ada.add("link", "", json!({ "name": "bus", "protocol": "modbus-tcp", "host": "127.0.0.1", "port": 1 })).await;
    ada.add("device", "", json!({ "name": "pump", "link": "bus", "unit": 3 })).await;
    ada.add(
        "point",
        "points/pump.csv",
        json!({ "name": "speed", "address": "40001", "type": "uint16", "rate": "fast", "unit": "rpm" }),
    )
    .await;
    let uplink = json!({ "name": "cloud", "kind": "sparkplug", "url": "mqtt://127.0.0.1:1", "group": "alderfen", "node": "heat-1", "user": "works", "password": PASSWORD });
    ada.add("uplink", "", uplink).await;
    assert_eq!(ada.problems().await, Vec::<String>::new());
    let told = ada.get("/difference").await;
    assert!(
        told["text"].as_str().unwrap().contains("+ point speed of pump added: 40001 uint16 rpm")
            || told["text"].as_str().unwrap().contains("holding:0"),
        "{told}"
    );
    assert_eq!(ada.draft().await["lists"], json!([{ "path": "points/pump.csv", "points": 1, "devices": ["pump"] }]));
}

async fn two_editors_do_not_overwrite_each_other(ada: &Engineer<'_>) {
    let bob = Engineer { api: ada.api, token: ada.api.token_of("bob", Role::Engineer).await, gateway: ada.gateway };
    let seen = ada.object("link", "bus").await;
    assert_eq!(bob.change("link", "bus", "timeout", "2s".into()).await.0, 200);
    let edit = json!([{ "object": { "class": "link", "name": "bus" }, "version": seen["version"], "content": seen["content"] }]);
    let (status, problem) = ada.edit(edit).await;
    assert_eq!((status, problem["type"].as_str()), (409, Some("edit-conflict")));
    let conflict = &problem["conflict"];
    assert_eq!((conflict["changed_by"].as_str(), conflict["content"]["timeout"].as_str()), (Some("bob"), Some("2s")));
    let again = json!([{ "object": { "class": "link", "name": "bus" }, "version": conflict["version"], "content": seen["content"] }]);
    assert_eq!(ada.edit(again).await.0, 200, "with the newest seen, one's own may stand");

    let here = |tab: &str, place: &str| Some(json!({ "tab": tab, "place": place }));
    ada.call(Method::PUT, "/draft/presence", here("1", "link bus")).await;
    let (_, others) = bob.call(Method::PUT, "/draft/presence", here("2", "")).await;
    assert_eq!(others["editors"], json!([{ "person": "ada", "place": "link bus" }]));
}

async fn renaming_takes_along_whoever_names_it(ada: &Engineer<'_>) {
    let (status, edited) = ada.change("link", "bus", "name", "field-bus".into()).await;
    assert_eq!(status, 200, "{edited}");
    assert_eq!(ada.object("device", "pump").await["content"]["link"], "field-bus");
    assert_eq!(ada.change("rate", "fast", "name", "quick".into()).await.0, 200);
    assert_eq!(ada.get("/draft/points").await[0]["content"]["rate"], "quick");
    assert_eq!(ada.problems().await, Vec::<String>::new());
}

async fn mistakes_are_told_by_field_and_nothing_starts(ada: &Engineer<'_>) {
    assert_eq!(ada.change("device", "pump", "unit", 300.into()).await.0, 200, "a draft may be wrong");
    assert_eq!(ada.problems().await, ["pump unit: unit is 300"]);
    let (status, problem) = ada.activate("wrong").await;
    assert_eq!((status, problem["type"].as_str()), (422, Some("description-has-mistakes")));
    assert_eq!(ada.change("device", "pump", "unit", 3.into()).await.0, 200);
}

async fn activation_is_of_what_was_looked_at(ada: &Engineer<'_>) {
    let seen = ada.draft().await["version"].clone();
    assert_eq!(ada.change("device", "pump", "title", "Feed pump".into()).await.0, 200);
    let stale = ada.call(Method::POST, "/activations", Some(json!({ "version": seen, "note": "" }))).await;
    assert_eq!((stale.0, stale.1["type"].as_str()), (409, Some("conflict")));
    let (status, activated) = ada.activate("first").await;
    assert_eq!((status, activated["revision"].as_u64()), (201, Some(1)), "{activated}");
    assert_eq!(ada.draft().await["changes"], 0);
    // Nobody listens on port 1: the outcome says what does not come up, and why.
    let outcome = loop {
        let outcome = ada.get("/outcome").await;
        if outcome["progress"] == "failing" {
            break outcome;
        }
        tokio::task::yield_now().await;
    };
    assert_eq!(
        (outcome["links"][0]["fate"].as_str(), outcome["links"][0]["state"].as_str()),
        (Some("started"), Some("down"))
    );
    assert!(outcome["links"][0]["error"].as_str().unwrap().starts_with("cannot connect"), "{outcome}");
    let point = ada.api.json(Method::GET, "/api/v1/points/heat/pump/speed", Who::Token(&ada.token), None).await.1;
    assert_eq!((point["quality"].as_str(), point["reason"].as_str()), (Some("bad"), Some("link down")), "{point}");
}

async fn an_earlier_revision_comes_back_under_a_new_number(ada: &Engineer<'_>) {
    assert_eq!(ada.change("device", "pump", "max-gap", 5.into()).await.0, 200);
    assert_eq!(ada.activate("gaps").await.1["revision"], 2);
    let told = ada.get("/difference?before=1&after=2").await;
    assert_eq!(told["objects"][0]["words"], "device pump: max-gap 0 → 5");
    let back = ada.call(Method::POST, "/activations", Some(json!({ "revision": 1, "note": "back" }))).await;
    assert_eq!((back.0, back.1["revision"].as_u64()), (201, Some(3)));
    assert_eq!(ada.get("/revisions/3").await, ada.get("/revisions/1").await);
    let notes: Vec<_> = ada.get("/revisions").await.as_array().unwrap().iter().map(|r| r["note"].clone()).collect();
    assert_eq!(notes, ["back", "gaps", "first"]);
}

async fn edits_can_be_thrown_away(ada: &Engineer<'_>) {
    assert_eq!(ada.change("device", "pump", "max-gap", 9.into()).await.0, 200);
    let draft = ada.draft().await;
    assert_eq!((draft["changes"].as_u64(), draft["changed_by"].as_str()), (Some(1), Some("ada")));
    let path = format!("/draft?version={}", draft["version"]);
    assert_eq!(ada.call(Method::DELETE, &path, None).await.0, 204);
    assert_eq!(ada.call(Method::DELETE, &path, None).await.0, 409, "it is another version now");
    assert_eq!(ada.draft().await["changes"], 0);
}

async fn secrets_are_nowhere_to_be_read(ada: &Engineer<'_>) {
    for path in ["/draft", "/draft/files", "/files", "/revisions/1", "/difference?before=nothing"] {
        let answer = ada.get(path).await.to_string();
        assert!(!answer.contains(PASSWORD) && !answer.contains("sealed:"), "{path}: {answer}");
    }
    let exported = ada.get("/files").await["files"].clone();
    assert!(exported["gateway.toml"].as_str().unwrap().contains("password = \"(stored)\""), "{exported}");
    // Coming back, the placeholder keeps what is stored: nothing differs.
    let version = ada.draft().await["version"].clone();
    let (status, answer) =
        ada.call(Method::PUT, "/draft/files", Some(json!({ "files": exported, "version": version }))).await;
    assert_eq!((status, answer["mistakes"].as_u64()), (200, Some(0)), "{answer}");
    assert_eq!(ada.draft().await["changes"], 0);
    let files = files_below(&ada.api.data_dir().join("database"));
    assert!(files.iter().any(|bytes| holds(bytes, b"sealed:2:")), "the sealed secret is on disk");
    assert!(!files.iter().any(|bytes| holds(bytes, PASSWORD.as_bytes())), "the secret itself is not");
}

fn files_below(directory: &std::path::Path) -> Vec<Vec<u8>> {
    let entries = std::fs::read_dir(directory).unwrap().map(|entry| entry.unwrap().path());
    let contents = entries.flat_map(|path| {
        if path.is_dir() { files_below(&path) } else { vec![std::fs::read(path).unwrap_or_default()] }
    });
    contents.collect()
}

fn holds(bytes: &[u8], wanted: &[u8]) -> bool {
    bytes.windows(wanted.len()).any(|window| window == wanted)
}

async fn the_trail_tells_all_of_it(ada: &Engineer<'_>) {
    let trail = async |query: &str| {
        let path = format!("/api/v1/audit?gateway=heat&{query}");
        ada.api.json(Method::GET, &path, Who::Token(&ada.token), None).await.1.as_array().unwrap().clone()
    };
    let all = trail("limit=1000").await;
    let actions: std::collections::BTreeSet<_> = all.iter().map(|entry| entry["action"].as_str().unwrap()).collect();
    assert_eq!(actions.into_iter().collect::<Vec<_>>(), ["activate", "add-gateway", "discard-draft", "edit-draft"]);
    assert!(all.iter().all(|entry| entry["source"] == "127.0.0.1" && !entry.to_string().contains(PASSWORD)));
    let bobs = trail("person=bob").await;
    assert_eq!(bobs.len(), 1);
    let (before, after) = (bobs[0]["before"].as_str().unwrap(), bobs[0]["after"].as_str().unwrap());
    assert!(!before.contains("timeout") && after.contains(r#""timeout":"2s""#), "{before} {after}");
    let lost = trail("action=discard-draft").await;
    assert!(
        lost[0]["before"].as_str().unwrap().contains("max-gap 0 → 9"),
        "what was thrown away can be read: {lost:?}"
    );
}

async fn a_second_gateway_may_not_take_the_same_node(ada: &Engineer<'_>) {
    let files = ada.get("/files").await["files"].clone();
    let main = files["gateway.toml"].as_str().unwrap().replace("\"heat\"", "\"boiler\"");
    let files = json!({ "gateway.toml": main, "points/pump.csv": files["points/pump.csv"] });
    let (_, result) =
        ada.api.json(Method::POST, "/api/v1/check", Who::Token(&ada.token), Some(json!({ "files": files }))).await;
    let told: Vec<_> = result["problems"].as_array().unwrap().iter().map(|p| p["message"].as_str().unwrap()).collect();
    assert!(told.contains(&"alderfen/heat-1 is the node of gateway \"heat\""), "{told:?}");
    assert!(told.iter().any(|message| message.contains("nothing is stored here")), "{told:?}");
}

async fn removing_a_gateway_stops_it(ada: &Engineer<'_>) {
    assert_eq!(ada.call(Method::DELETE, "", None).await.0, 204);
    assert_eq!(ada.call(Method::GET, "/draft", None).await.0, 404);
    let status = ada.api.json(Method::GET, "/api/v1/status", Who::Token(&ada.token), None).await.1;
    assert_eq!(status["gateways"], json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_model_offers_is_previewed_named_and_put_into_lists_in_one_step() {
    let api = Api::start().await;
    let token = api.token_of("ada", Role::Engineer).await;
    let ada = Engineer { api: &api, token, gateway: "heat" };
    api.json(Method::POST, "/api/v1/gateways", Who::Token(&ada.token), Some(json!({ "name": "heat" }))).await;
    ada.add("rate", "", json!({ "name": "normal", "period": "2s" })).await;
    ada.add("link", "", json!({ "name": "bus", "protocol": "modbus-tcp", "host": "10.20.0.11" })).await;
    for unit in [1, 2] {
        ada.add("device", "", json!({ "name": format!("meter-{unit}"), "link": "bus", "unit": unit })).await;
    }
    let (status, told) = ada.call(Method::POST, "/offers", Some(json!({ "source": "model", "with": {} }))).await;
    assert!(status == 400 && told["detail"].as_str().unwrap().contains("expected one of heat-meter"), "{told}");

    let offers = json!([
        { "path": ["Heat", "FlowRate"], "point": { "address": "input:2", "type": "float32" }, "value": 7 },
        { "path": ["Heat", "Energy"], "point": { "address": "input:6", "type": "uint32" } },
    ]);
    let mut request = json!({
        "devices": ["meter-1", "meter-2"], "offers": offers, "names": { "parts": 1, "case": "kebab", "prefix": "" }, "rate": "normal",
    });
    let take = async |request: &Value| ada.call(Method::POST, "/draft/offers", Some(request.clone())).await;
    let (status, told) = take(&request).await;
    assert_eq!((status, &told["names"]), (200, &json!(["flow-rate", "energy"])));
    assert_eq!(told["lists"].as_array().unwrap().len(), 2);
    assert_eq!(ada.get("/draft").await["lists"][0]["points"], 0, "a preview changes nothing");

    for (key, wrong, code) in [
        ("devices", json!(["meter-3"]), 400),
        ("devices", json!([]), 400),
        ("names", json!({ "prefix": "x".repeat(65) }), 400),
        ("version", json!(1), 409),
    ] {
        let mut wrong_one = request.clone();
        wrong_one[key] = wrong;
        assert_eq!(take(&wrong_one).await.0, code, "{key}");
    }
    request["version"] = ada.draft().await["version"].clone();
    let mut with_mistake = request.clone();
    with_mistake["rate"] = "hourly".into();
    let (status, told) = take(&with_mistake).await;
    assert!(status == 422 && told.to_string().contains("there is no rate"), "{told}");
    assert_eq!(take(&request).await.0, 200);
    for list in ["points/meter-1.csv", "points/meter-2.csv"] {
        let points = ada.get(&format!("/draft/points?list={list}")).await;
        let names: Vec<_> = points.as_array().unwrap().iter().map(|point| point["name"].as_str().unwrap()).collect();
        assert_eq!(names, ["flow-rate", "energy"], "{list}");
    }
    let many = json!({ "devices": ["meter-1", "meter-2"], "offers": vec![json!({ "path": ["a"], "point": {} }); 125_001], "rate": "normal" });
    assert_eq!(take(&many).await.0, 413, "more than a gateway may have");
}
