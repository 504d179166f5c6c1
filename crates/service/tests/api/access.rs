//! Who may do what, and what nobody may.

use crate::harness::{Api, Who};
use interlex_store::Role;
use reqwest::header::SET_COOKIE;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread")]
async fn the_api_keeps_out_who_has_no_business_there() {
    let api = Api::start().await;
    let cookie = set_up_works_once_with_the_printed_code(&api).await;
    a_cookie_only_works_from_the_console_itself(&api, &cookie).await;
    every_role_is_tried_against_every_call(&api).await;
    bodies_have_an_end(&api).await;
    signing_out_ends_the_session(&api, &cookie).await;
    api.stop().await;
}

/// Every call of the OpenAPI document: method, path with names that nothing has, the role it needs, and whether it has a
/// body. Calls without a role are open to everybody.
async fn calls(api: &Api) -> Vec<(Method, String, Option<Role>, bool)> {
    let document: Value = api.send(Method::GET, "/api/v1/openapi.json", Who::Nobody, None).await.json().await.unwrap();
    let mut calls = Vec::new();
    for (path, methods) in document["paths"].as_object().unwrap() {
        for (method, call) in methods.as_object().unwrap() {
            let path = path.replace("{number}", "1").replace(['{', '}'], "");
            let role = call["x-role"].as_str();
            let role = role.map(|word| Role::ALL.into_iter().find(|role| role.word() == word).unwrap());
            let path = if path.ends_with("/draft") && method == "delete" { path + "?version=1" } else { path };
            calls.push((method.to_uppercase().parse().unwrap(), path, role, call.get("requestBody").is_some()));
        }
    }
    assert!(calls.len() >= 40, "{}", calls.len());
    calls
}

async fn every_role_is_tried_against_every_call(api: &Api) {
    let mut people = Vec::new();
    for role in Role::ALL {
        people.push((role, api.token_of(role.word(), role).await));
    }
    let mut open = Vec::new();
    for (method, path, needed, has_body) in calls(api).await {
        let body = has_body.then(|| json!({}));
        let Some(needed) = needed else {
            open.push(format!("{method} {path}"));
            continue;
        };
        for who in [Who::Nobody, Who::Token("guess"), Who::Cookie("guess")] {
            let status = api.status(method.clone(), &path, who, body.clone()).await;
            assert_eq!(status, StatusCode::UNAUTHORIZED, "{method} {path} {who:?}");
        }
        for (role, token) in &people {
            let status = api.status(method.clone(), &path, Who::Token(token), body.clone()).await;
            assert_eq!(status == StatusCode::FORBIDDEN, *role < needed, "{method} {path} as {role:?}: {status}");
            assert!(
                status != StatusCode::UNAUTHORIZED && status.as_u16() < 500,
                "{method} {path} as {role:?}: {status}"
            );
        }
    }
    // What needs no sign-in is the way in itself, and what machines and editors ask.
    open.sort();
    let expected = [
        "DELETE /api/v1/session",
        "GET /api/v1/schema",
        "GET /api/v1/setup",
        "GET /healthz",
        "GET /metrics",
        "GET /readyz",
        "POST /api/v1/session",
        "POST /api/v1/setup",
        "POST /api/v1/tokens",
    ];
    assert_eq!(open, expected);
}

async fn set_up_works_once_with_the_printed_code(api: &Api) -> String {
    let body = |code: &str, password: &str| Some(json!({ "code": code, "name": "ada", "password": password }));
    let code = api.service.setup_code().unwrap();
    let wrong = api.status(Method::POST, "/api/v1/setup", Who::Nobody, body("AAAAA-AAAAA", "digester-42")).await;
    assert_eq!(wrong, StatusCode::UNAUTHORIZED);
    let short = api.status(Method::POST, "/api/v1/setup", Who::Nobody, body(&code, "short")).await;
    assert_eq!(short, StatusCode::BAD_REQUEST);
    let done = api.send(Method::POST, "/api/v1/setup", Who::Nobody, body(&code, "digester-42")).await;
    assert_eq!(done.status(), StatusCode::CREATED);
    let cookie = done.headers()[SET_COOKIE].to_str().unwrap().to_owned();
    for word in ["HttpOnly", "SameSite=Strict", "Path=/", "Max-Age="] {
        assert!(cookie.contains(word), "{cookie}");
    }
    let again = api.status(Method::POST, "/api/v1/setup", Who::Nobody, body(&code, "digester-43")).await;
    assert_eq!(again, StatusCode::UNAUTHORIZED, "the code is spent");
    cookie.split(['=', ';']).nth(1).unwrap().to_owned()
}

async fn a_cookie_only_works_from_the_console_itself(api: &Api, cookie: &str) {
    let ask = async |who| api.status(Method::POST, "/api/v1/check", who, Some(json!({ "files": {} }))).await;
    assert_eq!(ask(Who::Cookie(cookie)).await, StatusCode::OK);
    for origin in ["http://evil.example", "null", "http://127.0.0.1:1"] {
        assert_eq!(ask(Who::CookieFrom(cookie, origin)).await, StatusCode::FORBIDDEN, "{origin}");
    }
    assert_eq!(api.status(Method::GET, "/api/v1/session", Who::CookieFrom(cookie, "null"), None).await, StatusCode::OK);
    assert_eq!(ask(Who::Token(cookie)).await, StatusCode::UNAUTHORIZED, "a cookie is no token");
    let answer = api.send(Method::GET, "/", Who::Nobody, None).await;
    for header in ["content-security-policy", "x-content-type-options", "referrer-policy", "x-frame-options"] {
        assert!(answer.headers().contains_key(header), "{header}");
    }
}

async fn bodies_have_an_end(api: &Api) {
    let body = |length| Some(json!({ "name": "x".repeat(length), "password": "y" }));
    let status = async |length| api.status(Method::POST, "/api/v1/session", Who::Nobody, body(length)).await;
    assert_eq!(status(1000).await, StatusCode::UNAUTHORIZED);
    assert_eq!(status(300_000).await, StatusCode::PAYLOAD_TOO_LARGE);
}

async fn signing_out_ends_the_session(api: &Api, cookie: &str) {
    let foreign = Who::CookieFrom(cookie, "http://evil.example");
    assert_eq!(api.status(Method::DELETE, "/api/v1/session", foreign, None).await, StatusCode::FORBIDDEN);
    assert_eq!(api.status(Method::GET, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::OK);
    assert_eq!(api.status(Method::DELETE, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::NO_CONTENT);
    assert_eq!(api.status(Method::GET, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::UNAUTHORIZED);
}
