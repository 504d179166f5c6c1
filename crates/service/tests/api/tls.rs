//! The console by TLS.

use crate::harness::{Api, Who};
use interlex_service::TlsSource;
use reqwest::header::{SET_COOKIE, STRICT_TRANSPORT_SECURITY};
use reqwest::{Client, Method};
use serde_json::json;
use std::os::unix::fs::PermissionsExt;

#[tokio::test(flavor = "multi_thread")]
async fn a_self_made_certificate_serves_whoever_trusts_it() {
    let made = |directory: &std::path::Path| {
        Some(TlsSource::SelfMade { directory: directory.to_owned(), names: vec!["works.alderfen.example".to_owned()] })
    };
    let mut api = Api::with_tls(made).await;
    assert!(api.url.starts_with("https://127.0.0.1:"), "{}", api.url);
    assert!(api.http.get(format!("{}/healthz", api.url)).send().await.is_err(), "nobody trusts it unasked");
    let (certificate, key) = (api.data_dir().join("tls-cert.pem"), api.data_dir().join("tls-key.pem"));
    assert_eq!(std::fs::metadata(key).unwrap().permissions().mode() & 0o077, 0, "the key is nobody else's");
    let certificates = reqwest::Certificate::from_pem_bundle(&std::fs::read(certificate).unwrap()).unwrap();
    api.http = Client::builder().tls_certs_merge(certificates).build().unwrap();
    let code = api.service.setup_code().unwrap();
    let body = json!({ "code": code, "name": "ada", "password": "digester-42" });
    let answer = api.send(Method::POST, "/api/v1/setup", Who::Nobody, Some(body)).await;
    let cookie = answer.headers()[SET_COOKIE].to_str().unwrap();
    assert!(cookie.contains("; Secure"), "{cookie}");
    assert!(answer.headers().contains_key(STRICT_TRANSPORT_SECURITY));
    // Whoever speaks no TLS at all does not keep the others waiting.
    let address = api.service.address();
    let _silent = tokio::net::TcpStream::connect(address).await.unwrap();
    assert_eq!(api.status(Method::GET, "/healthz", Who::Nobody, None).await, 200);
    api.stop().await;
}
