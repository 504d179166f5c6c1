//! Every call answers what its document says, whatever it is sent.

use crate::harness::{Api, Who};
use interlex_store::Role;
use reqwest::{Method, header};
use serde_json::Value;

/// Bodies that no call wants, with their media type.
fn odd_bodies() -> Vec<(&'static str, String)> {
    let json = "application/json";
    let deep = "[".repeat(2000) + &"]".repeat(2000);
    [
        (json, "{}".to_owned()),
        (json, "[]".to_owned()),
        (json, "null".to_owned()),
        (json, "{\"name\": 7, \"link\": [], \"files\": \"x\", \"edits\": {}, \"uplink\": 1}".to_owned()),
        (json, "{\"name\": \"\\u0000\", \"value\": 1e999}".to_owned()),
        (json, "{".to_owned()),
        (json, deep),
        (json, format!("\"{}\"", "x".repeat(300_000))),
        ("text/plain", "{}".to_owned()),
        ("application/x-www-form-urlencoded", "name=ada".to_owned()),
    ]
    .into()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_call_answers_odd_input_as_its_document_says() {
    let api = Api::start().await;
    let token = api.token_of("ada", Role::Administrator).await;
    let document: Value = api.send(Method::GET, "/api/v1/openapi.json", Who::Nobody, None).await.json().await.unwrap();
    let mut asked = 0;
    for (path, calls) in document["paths"].as_object().unwrap() {
        for (method, call) in calls.as_object().unwrap() {
            if !path.starts_with("/api/") || path.ends_with("/live") || path.ends_with("/tap") {
                continue;
            }
            let method: Method = method.to_uppercase().parse().unwrap();
            let path = path.replace("{number}", "4294967296").replace(['{', '}'], "");
            let odd_query = "limit=x&below=-1&after=x&version=x&from=x&list=%00&device=%FF&before=0&gateway=%2E%2E";
            let bodies = if call.get("requestBody").is_some() { odd_bodies() } else { vec![("", String::new())] };
            for (kind, body) in bodies {
                for query in ["", odd_query] {
                    let url = format!("{}{path}?{query}", api.url);
                    let mut request = api.http.request(method.clone(), url).bearer_auth(&token);
                    if !kind.is_empty() {
                        request = request.header(header::CONTENT_TYPE, kind).body(body.clone());
                    }
                    let answer = request.send().await.unwrap();
                    let (status, code) = (answer.status(), answer.status().as_u16().to_string());
                    let what = format!("{method} {path}?{query} {kind} {}", body.get(..40).unwrap_or(&body));
                    assert!(call["responses"].get(&code).is_some(), "{what}: {status} is not in the document");
                    if !status.is_success() {
                        let is_over = answer.headers().get(header::CONNECTION).is_some_and(|word| word == "close");
                        assert!(
                            is_over || !status.is_client_error() || body.len() < 10_000,
                            "{what}: nothing more is to be sent"
                        );
                        assert_eq!(answer.headers()[header::CONTENT_TYPE], "application/problem+json", "{what}");
                        let problem: Value = answer.json().await.unwrap();
                        assert_eq!(problem["status"], status.as_u16(), "{what}");
                        assert_ne!(status.as_u16(), 500, "{what}: {problem}");
                    }
                    asked += 1;
                }
            }
        }
    }
    assert!(asked > 300, "{asked}");
    api.stop().await;
}
