//! A draft of fifty thousand points: how long a person waits for its check, its difference and its activation.

use crate::report::{header, row};
use anyhow::{Context, ensure};
use interlex_service::{Service, ServiceConfig};
use interlex_sidecar::{Database, own_socket};
use interlex_store::{AuditEntry, CredentialKind, NewPerson, Role, Secret, Store};
use serde_json::{Value, json};
use std::fmt::Write as _;
use std::net::Ipv4Addr;
use std::time::Duration;
use tokio::time::Instant;

const DEVICES: usize = 100;
const POINTS: usize = 500;

struct Bench {
    http: reqwest::Client,
    url: String,
    token: String,
}

impl Bench {
    async fn call(&self, method: reqwest::Method, path: &str, body: Option<&Value>) -> anyhow::Result<Value> {
        let url = format!("{}/api/v1{path}", self.url);
        let request = self.http.request(method, url).bearer_auth(&self.token);
        let request = body.into_iter().fold(request, reqwest::RequestBuilder::json);
        let answer = request.send().await?;
        let status = answer.status();
        let value: Value = answer.json().await.unwrap_or_default();
        ensure!(status.is_success(), "{path}: {status} {value}");
        Ok(value)
    }

    async fn get(&self, path: &str) -> anyhow::Result<Value> {
        self.call(reqwest::Method::GET, path, None).await
    }

    async fn version(&self) -> anyhow::Result<Value> {
        Ok(self.get("/gateways/works/draft").await?.get("version").cloned().unwrap_or_default())
    }
}

/// Many devices on many links. Nobody answers at their address: what is measured is the description.
fn files() -> Value {
    let mut main = "[gateway]\nname = \"works\"\n[rates]\nnormal = \"2s\"\n".to_owned();
    let mut files = serde_json::Map::new();
    for device in 0..DEVICES {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[link]]\nname = \"bus-{device}\"\nprotocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\nport = {}\nreconnect-limit = \
             \"1h\"\n[[device]]\nname = \"unit-{device}\"\nlink = \"bus-{device}\"\nunit = 1\n",
            device + 1
        );
        let mut list = "name,address,type,scale,unit,rate,title\n".to_owned();
        for point in 0..POINTS {
            let _ = writeln!(list, "value-{point},holding:{},float32,0.1,kW,normal,Value {point}", point * 2);
        }
        files.insert(format!("points/unit-{device}.csv"), list.into());
    }
    files.insert("gateway.toml".to_owned(), main.into());
    json!({ "files": files })
}

pub(crate) async fn run() -> anyhow::Result<()> {
    // reqwest wants a provider even for plain HTTP; a second call changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let directory = tempfile::tempdir()?;
    let mut database = Database::start(&directory.path().join("database"), own_socket()?).await?;
    let store = Store::new(&database.url("interlex"))?;
    let (listen, data_dir) = ((Ipv4Addr::LOCALHOST, 0).into(), directory.path().to_owned());
    let service = Service::start(ServiceConfig {
        listen,
        store: store.clone(),
        data_dir,
        tls: None,
        trusted_proxies: Vec::new(),
        is_audit_required: false,
    })
    .await?;
    service.ready().await;
    let person = NewPerson { name: "bench", password_hash: "unusable", role: Role::Engineer, created_at: 0 };
    store.add_person(&person).await?;
    let id = store.person("bench").await?.context("the person is gone")?.id;
    let secret = Secret::generate()?;
    store.add_credential(id, CredentialKind::Token, "bench", &secret, 0, i64::MAX).await?;
    let bench = Bench { http: reqwest::Client::new(), url: service.url(), token: secret.reveal().to_owned() };

    let described = files();
    header(&format!("config: a draft of {} points, {DEVICES} devices, by the API", DEVICES * POINTS));
    bench.call(reqwest::Method::POST, "/gateways", Some(&json!({ "name": "works" }))).await?;
    let mut request = described.clone();
    if let Some(object) = request.as_object_mut() {
        object.insert("version".to_owned(), bench.version().await?);
    }
    let import = timed(bench.call(reqwest::Method::PUT, "/gateways/works/draft/files", Some(&request))).await?;
    told("import of the files into the draft", import.0, None, raw_write(&store, &described).await?);
    activate(&bench).await?;

    // One point is changed: what was known of the draft counts for nothing.
    touch(&bench, "Value 7, changed").await?;
    let check = timed(bench.get("/gateways/works/draft/check")).await?;
    told("check", check.0, Some(3.0), raw_parse(&described));
    let difference = timed(bench.get("/gateways/works/difference")).await?;
    let objects = difference.1.get("objects").and_then(Value::as_array).map_or(0, Vec::len);
    ensure!(objects == 1, "{objects} objects differ");
    told("difference", difference.0, Some(2.0), raw_parse(&described));
    let activation = activate(&bench).await?;
    told("activation that touches one point", activation, Some(1.0), raw_write(&store, &described).await?);
    touch(&bench, "Value 7, once more").await?;
    let cold = activate(&bench).await?;
    told("the same, not looked at before", cold, None, raw_write(&store, &described).await?);

    service.stop().await;
    database.stop().await;
    Ok(())
}

async fn touch(bench: &Bench, title: &str) -> anyhow::Result<()> {
    let list = "points/unit-42.csv";
    let points = bench.get(&format!("/gateways/works/draft/points?list={list}")).await?;
    let point = points.get(7).context("there is no point")?;
    let mut content = point.get("content").cloned().unwrap_or_default();
    if let Some(object) = content.as_object_mut() {
        object.insert("title".to_owned(), title.into());
        object.insert("deadband".to_owned(), 0.5.into());
    }
    let object = json!({ "class": "point", "list": list, "name": content.get("name") });
    let edits = json!({ "edits": [{ "object": object, "version": point.get("version"), "content": content }] });
    bench.call(reqwest::Method::POST, "/gateways/works/draft/edits", Some(&edits)).await.map(|_| ())
}

async fn activate(bench: &Bench) -> anyhow::Result<Duration> {
    let request = json!({ "version": bench.version().await?, "note": "bench" });
    Ok(timed(bench.call(reqwest::Method::POST, "/gateways/works/activations", Some(&request))).await?.0)
}

async fn timed<T>(call: impl Future<Output = anyhow::Result<T>>) -> anyhow::Result<(Duration, T)> {
    let start = Instant::now();
    let value = call.await?;
    Ok((start.elapsed(), value))
}

/// The least that reading the draft can be: its JSON parsed once.
fn raw_parse(described: &Value) -> Duration {
    let text = described.to_string();
    let start = Instant::now();
    let parsed: Result<Value, _> = serde_json::from_str(&text);
    std::hint::black_box(&parsed);
    start.elapsed()
}

/// The least that keeping it can be: its bytes in one row of the database.
async fn raw_write(store: &Store, described: &Value) -> anyhow::Result<Duration> {
    let entry =
        AuditEntry { person: "bench", action: "raw", after: Some(described.to_string()), ..AuditEntry::default() };
    let start = Instant::now();
    store.add_audit(&entry).await?;
    Ok(start.elapsed())
}

fn told(what: &str, ours: Duration, at_most: Option<f64>, raw: Duration) {
    let (seconds, raw) = (ours.as_secs_f64(), raw.as_secs_f64());
    let bound = at_most.map(|bound| format!(" (asked: under {bound} s)")).unwrap_or_default();
    row(&format!("{what}, s{bound}"), &format!("{seconds:.3}"), &format!("{raw:.3}"), Some(seconds / raw));
}
