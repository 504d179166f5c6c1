//! The document that the console is typed by is the service's own.
#![allow(clippy::unwrap_used, reason = "tests")]

#[test]
fn the_consoles_copy_of_the_openapi_document_is_fresh() {
    let copy = include_str!("../../../console/openapi.json");
    let fresh = serde_json::to_string_pretty(&interlex_service::openapi()).unwrap();
    assert!(copy.trim_end() == fresh, "console/openapi.json is stale; run scripts/api");
}

#[test]
fn every_call_of_the_api_says_how_it_fails_when_nobody_is_signed_in() {
    let document = serde_json::to_value(interlex_service::openapi()).unwrap();
    let open = ["/api/v1/setup", "/api/v1/session", "/healthz", "/readyz", "/metrics"];
    for (path, calls) in document["paths"].as_object().unwrap() {
        for (method, call) in calls.as_object().unwrap() {
            let says = call["responses"].get("401").is_some();
            assert!(says || open.contains(&path.as_str()), "{method} {path}");
        }
    }
}
