//! A service on a real MariaDB, and requests of whoever one likes to be.

use interlex_service::{Service, ServiceConfig, TlsSource};
use interlex_sidecar::{Database, own_socket};
use interlex_store::{CredentialKind, NewPerson, Role, Secret, Store};
use reqwest::header::{COOKIE, ORIGIN};
use reqwest::{Client, Method, StatusCode};
use serde_json::Value;
use std::net::Ipv4Addr;
use std::path::Path;

pub(crate) struct Api {
    directory: tempfile::TempDir,
    database: Database,
    store: Store,
    pub(crate) service: Service,
    pub(crate) http: Client,
    pub(crate) url: String,
}

/// How a request says who sends it.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Who<'a> {
    Nobody,
    Cookie(&'a str),
    CookieFrom(&'a str, &'a str),
    Token(&'a str),
}

impl Api {
    pub(crate) async fn start() -> Self {
        Self::with_tls(|_| None).await
    }

    pub(crate) async fn with_tls(tls: impl FnOnce(&Path) -> Option<TlsSource>) -> Self {
        // reqwest wants a provider even for plain HTTP; a second call changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let database = Database::start(&directory.path().join("database"), own_socket().unwrap()).await.unwrap();
        let store = Store::new(&database.url("interlex")).unwrap();
        let (listen, data_dir) = ((Ipv4Addr::LOCALHOST, 0).into(), directory.path().to_owned());
        let config = ServiceConfig {
            listen,
            store: store.clone(),
            tls: tls(&data_dir),
            data_dir,
            trusted_proxies: Vec::new(),
            is_audit_required: false,
        };
        let service = Service::start(config).await.unwrap();
        service.ready().await;
        let url = service.url();
        Self { directory, database, store, service, http: Client::new(), url }
    }

    /// Another service in its place, which knows only what the database has.
    pub(crate) async fn restart(self) -> Self {
        self.service.stop().await;
        let store = Store::new(&self.database.url("interlex")).unwrap();
        let config = ServiceConfig {
            listen: (Ipv4Addr::LOCALHOST, 0).into(),
            store: store.clone(),
            tls: None,
            data_dir: self.directory.path().to_owned(),
            trusted_proxies: Vec::new(),
            is_audit_required: false,
        };
        let service = Service::start(config).await.unwrap();
        service.ready().await;
        Self { url: service.url(), service, store, ..self }
    }

    pub(crate) async fn stop(mut self) {
        self.service.stop().await;
        self.database.stop().await;
    }

    pub(crate) async fn send(
        &self,
        method: Method,
        path: &str,
        who: Who<'_>,
        body: Option<Value>,
    ) -> reqwest::Response {
        let mut request = self.http.request(method, format!("{}{path}", self.url));
        request = match who {
            Who::Nobody => request,
            Who::Cookie(secret) => {
                request.header(COOKIE, format!("interlex_session={secret}")).header(ORIGIN, self.url.clone())
            }
            Who::CookieFrom(secret, origin) => {
                request.header(COOKIE, format!("interlex_session={secret}")).header(ORIGIN, origin)
            }
            Who::Token(secret) => request.bearer_auth(secret),
        };
        if let Some(body) = body {
            request = request.json(&body);
        }
        request.send().await.unwrap()
    }

    pub(crate) async fn status(&self, method: Method, path: &str, who: Who<'_>, body: Option<Value>) -> StatusCode {
        self.send(method, path, who, body).await.status()
    }

    /// Sends and gives the JSON of the answer with its status.
    pub(crate) async fn json(&self, method: Method, path: &str, who: Who<'_>, body: Option<Value>) -> (u16, Value) {
        let answer = self.send(method, path, who, body).await;
        let status = answer.status().as_u16();
        (status, answer.json().await.unwrap_or_default())
    }

    pub(crate) fn database_url(&self) -> String {
        self.database.url("interlex")
    }

    pub(crate) async fn stop_database(&mut self) {
        self.database.kill().await;
    }

    pub(crate) fn data_dir(&self) -> &Path {
        self.directory.path()
    }

    /// Adds a person with a role and gives a token.
    pub(crate) async fn token_of(&self, name: &str, role: Role) -> String {
        let person = NewPerson { name, password_hash: "unusable", role, created_at: 0 };
        self.store.add_person(&person).await.unwrap();
        let (secret, person) = (Secret::generate().unwrap(), self.store.person(name).await.unwrap().unwrap());
        self.store.add_credential(person.id, CredentialKind::Token, "test", &secret, 0, i64::MAX).await.unwrap();
        secret.reveal().to_owned()
    }
}
