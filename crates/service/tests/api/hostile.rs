//! What those may do who mean harm, or use up what is there.

use crate::harness::{Api, Who};
use futures_util::{StreamExt, future};
use interlex_service::{Service, ServiceConfig};
use interlex_store::Role;
use reqwest::{Method, StatusCode};
use serde_json::json;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::timeout;

const SOON: Duration = Duration::from_secs(20);

#[tokio::test(flavor = "multi_thread")]
async fn nobody_tries_tears_down_or_takes_what_is_not_theirs() {
    let mut api = Api::start().await;
    many_guesses_at_once_are_few_attempts(&api).await;
    streams_end_with_the_right_to_them(&api).await;
    a_stored_password_goes_nowhere_else(&api).await;
    large_bodies_are_refused_in_words(&api).await;
    a_slow_upload_holds_nobody_up(&api).await;
    silent_connections_do_not_keep_others_out(&api).await;
    a_second_service_leaves_the_database_alone(&api).await;
    while_the_database_is_away_nobody_is_called_a_stranger(&mut api).await;
    api.stop().await;
}

async fn many_guesses_at_once_are_few_attempts(api: &Api) {
    let guess = |number: usize| async move {
        let body = json!({ "name": "ada", "password": format!("guess-{number:06}") });
        api.status(Method::POST, "/api/v1/session", Who::Nobody, Some(body)).await.as_u16()
    };
    let mut counts: BTreeMap<u16, usize> = BTreeMap::new();
    for status in future::join_all((0..300).map(guess)).await {
        *counts.entry(status).or_default() += 1;
    }
    assert!(counts.get(&401).copied().unwrap_or(0) <= 8, "{counts:?}");
    assert!(counts.keys().all(|status| [401, 429, 503].contains(status)), "{counts:?}");
    assert_eq!(api.status(Method::GET, "/healthz", Who::Nobody, None).await, StatusCode::OK);
}

async fn streams_end_with_the_right_to_them(api: &Api) {
    let chief = api.token_of("chief", Role::Administrator).await;
    async fn end(api: &Api, name: &str, what: impl AsyncFnOnce()) {
        let token = api.token_of(name, Role::Engineer).await;
        let live = api.send(Method::GET, "/api/v1/live", Who::Token(&token), None).await;
        let mut events = live.bytes_stream();
        assert!(events.next().await.is_some(), "it streams");
        what().await;
        let ended = async { while events.next().await.is_some() {} };
        assert!(timeout(SOON, ended).await.is_ok(), "the stream of {name} goes on");
    }
    let change = async |method: Method, path: String, body| {
        assert_eq!(api.status(method, &path, Who::Token(&chief), body).await, StatusCode::NO_CONTENT, "{path}");
    };
    end(api, "removed", async || change(Method::DELETE, "/api/v1/people/removed".to_owned(), None).await).await;
    let password = || Some(json!({ "password": "digester-43" }));
    end(api, "renewed", async || change(Method::PATCH, "/api/v1/people/renewed".to_owned(), password()).await).await;
    end(api, "untold", async || {
        let (_, tokens) = api.json(Method::GET, "/api/v1/tokens", Who::Token(&chief), None).await;
        let own = tokens.as_array().unwrap().iter().find(|token| token["person"] == "untold").unwrap();
        change(Method::DELETE, format!("/api/v1/tokens/{}", own["id"].as_str().unwrap()), None).await;
    })
    .await;
    let many = future::join_all((0..40).map(|_| api.send(Method::GET, "/api/v1/live", Who::Token(&chief), None))).await;
    let refused = many.iter().filter(|answer| answer.status() == StatusCode::TOO_MANY_REQUESTS).count();
    assert_eq!(refused, 8, "so many streams for a person");
}

async fn a_stored_password_goes_nowhere_else(api: &Api) {
    let token = api.token_of("mara", Role::Engineer).await;
    let who = Who::Token(&token);
    api.json(Method::POST, "/api/v1/gateways", who, Some(json!({ "name": "works" }))).await;
    let uplink = |url: &str, password: &str| {
        json!({ "name": "cloud", "kind": "sparkplug", "url": url, "group": "alderfen", "node": "works-1", "user": "works",
                "password": password })
    };
    let edit = async |url: &str, password: &str, version: Option<String>| {
        let object = json!({ "class": "uplink", "name": "cloud" });
        let edit = json!({ "object": object, "version": version, "content": uplink(url, password) });
        let body = Some(json!({ "edits": [edit] }));
        api.json(Method::POST, "/api/v1/gateways/works/draft/edits", who, body).await
    };
    let (status, edited) = edit("mqtt://127.0.0.1:1", "heron-1", None).await;
    assert_eq!(status, 200, "{edited}");
    let version = edited["objects"][0]["version"].as_str().unwrap().to_owned();
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let elsewhere = format!("mqtt://127.0.0.1:{}", listener.local_addr().unwrap().port());
    let trial = Some(json!({ "uplink": uplink(&elsewhere, "(stored)") }));
    let (status, told) = api.json(Method::POST, "/api/v1/gateways/works/trials/broker", who, trial).await;
    assert_eq!(status, 422, "{told}");
    assert!(told["problems"][0]["message"].as_str().unwrap().contains("for another address"), "{told}");
    assert!(timeout(Duration::from_millis(300), listener.accept()).await.is_err(), "nobody is called");
    let (status, told) = edit(&elsewhere, "(stored)", Some(version.clone())).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("password")), "{told}");
    assert_eq!(edit("mqtt://127.0.0.1:1", "(stored)", Some(version)).await.0, 200, "it stays where it is");
}

async fn large_bodies_are_refused_in_words(api: &Api) {
    let token = api.token_of("nils", Role::Engineer).await;
    let files = |bytes: usize| Some(json!({ "files": { "gateway.toml": "x".repeat(bytes) } }));
    let (status, told) = api.json(Method::POST, "/api/v1/check", Who::Token(&token), files(40 << 20)).await;
    assert_eq!(status, 413, "{told}");
    assert!(told["detail"].as_str().unwrap().contains("descriptions may have 16 MB"), "{told}");
    let rows = Some(json!({ "files": { "gateway.toml": "", "p.csv": "x\n".repeat(300_000) } }));
    let (status, told) = api.json(Method::POST, "/api/v1/check", Who::Token(&token), rows).await;
    assert_eq!(status, 413, "{told}");
}

/// Two bodies that never end have taken or asked for all the room there is; what is small is answered all the same.
async fn a_slow_upload_holds_nobody_up(api: &Api) {
    let token = api.token_of("uploader", Role::Engineer).await;
    let mut slow = Vec::new();
    for _ in 0..2 {
        let mut stream = TcpStream::connect(api.service.address()).await.unwrap();
        let head = format!(
            "POST /api/v1/check HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nContent-Type: \
             application/json\r\nContent-Length: 16000000\r\n\r\n{{"
        );
        stream.write_all(head.as_bytes()).await.unwrap();
        slow.push(stream);
    }
    let small = Some(json!({ "files": { "gateway.toml": "" } }));
    let answered = api.status(Method::POST, "/api/v1/check", Who::Token(&token), small);
    // As long as a body may take, the slow ones are waited for.
    assert_eq!(timeout(SOON, answered).await, Ok(StatusCode::OK), "it waits for the slow ones");
}

async fn silent_connections_do_not_keep_others_out(api: &Api) {
    let mut silent = Vec::new();
    for _ in 0..1200 {
        silent.push(TcpStream::connect(api.service.address()).await.unwrap());
    }
    // The one that has been silent for longest makes room for one that asks.
    let healthy = async {
        while api.http.get(format!("{}/healthz", api.url)).send().await.is_err() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    assert!(
        timeout(Duration::from_secs(5), healthy).await.is_ok(),
        "as long as the head of a silent one is waited for"
    );
    drop(silent);
    let mut half = TcpStream::connect(api.service.address()).await.unwrap();
    half.write_all(b"GET /healthz HTTP/1.1\r\nHost: x\r\n").await.unwrap();
    let mut rest = Vec::new();
    // A head that does not end is waited for fifteen seconds.
    assert!(timeout(Duration::from_secs(30), half.read_to_end(&mut rest)).await.is_ok(), "it is closed");
    let healthy = async {
        while api.http.get(format!("{}/healthz", api.url)).send().await.is_err() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    assert!(timeout(SOON, healthy).await.is_ok());
}

async fn a_second_service_leaves_the_database_alone(api: &Api) {
    let data_dir = api.data_dir().join("second");
    std::fs::create_dir(&data_dir).unwrap();
    let config = |data_dir: &std::path::Path| ServiceConfig {
        listen: (Ipv4Addr::LOCALHOST, 0).into(),
        store: interlex_store::Store::new(&api.database_url()).unwrap(),
        data_dir: data_dir.to_owned(),
        tls: None,
        trusted_proxies: Vec::new(),
        is_audit_required: false,
    };
    let second = Service::start(config(&data_dir)).await.unwrap();
    let why = timeout(SOON, second.gave_up()).await.unwrap();
    assert!(
        why.contains("the database is in use by the service on") && why.contains(&api.service.address().to_string()),
        "{why}"
    );
    second.stop().await;
    assert_eq!(api.status(Method::GET, "/readyz", Who::Nobody, None).await, StatusCode::OK, "the first one goes on");
}

async fn while_the_database_is_away_nobody_is_called_a_stranger(api: &mut Api) {
    let token = api.token_of("olga", Role::Viewer).await;
    let seen = api.token_of("pia", Role::Viewer).await;
    assert_eq!(api.status(Method::GET, "/api/v1/status", Who::Token(&seen), None).await, StatusCode::OK);
    api.stop_database().await;
    let away = async {
        while api.status(Method::GET, "/readyz", Who::Nobody, None).await == StatusCode::OK {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    timeout(SOON, away).await.unwrap();
    let told = api.send(Method::GET, "/readyz", Who::Nobody, None).await.text().await.unwrap();
    assert_eq!(told, "the database is away\n", "no names for strangers");
    let (status, told) = api.json(Method::GET, "/api/v1/status", Who::Token(&token), None).await;
    assert_eq!((status, told["type"].as_str()), (503, Some("database-away")), "{told}");
    assert_eq!(api.status(Method::GET, "/api/v1/status", Who::Token(&seen), None).await, StatusCode::OK);
}
