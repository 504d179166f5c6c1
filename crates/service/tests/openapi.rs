//! The document that the console is typed by is the service's own.
#![allow(clippy::unwrap_used, reason = "tests")]

#[test]
fn the_consoles_copy_of_the_openapi_document_is_fresh() {
    let copy = include_str!("../../../console/openapi.json");
    let fresh = serde_json::to_string_pretty(&interlex_service::openapi()).unwrap();
    assert!(copy.trim_end() == fresh, "console/openapi.json is stale; run scripts/api");
}

#[test]
fn every_call_says_how_it_fails_for_those_who_may_not() {
    let document = serde_json::to_value(interlex_service::openapi()).unwrap();
    for (path, calls) in document["paths"].as_object().unwrap() {
        for (method, call) in calls.as_object().unwrap() {
            let says = |code: &str| call["responses"].get(code).is_some();
            if let Some(role) = call["x-role"].as_str() {
                assert!(says("401"), "{method} {path}");
                // Some of what everybody may look at has parts that not everybody may.
                assert!(says("403") || role == "viewer", "{method} {path}");
            }
        }
    }
}
