//! The API on a real MariaDB: who may do what, and what nobody may.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_service::{Service, ServiceConfig};
use interlex_sidecar::{Database, free_port};
use interlex_store::{CredentialKind, NewPerson, Role, Secret, Store};
use reqwest::header::{COOKIE, ORIGIN, SET_COOKIE};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use std::net::Ipv4Addr;

struct Api {
    _directory: tempfile::TempDir,
    database: Database,
    store: Store,
    service: Service,
    http: Client,
    url: String,
}

/// How a request says who sends it.
#[derive(Debug, Clone, Copy)]
enum Who<'a> {
    Nobody,
    Cookie(&'a str),
    CookieFrom(&'a str, &'a str),
    Token(&'a str),
}

impl Api {
    async fn start() -> Self {
        // reqwest wants a provider even for plain HTTP; a second call changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let database = Database::start(directory.path(), free_port().unwrap()).await.unwrap();
        let store = Store::new(&database.url("interlex")).unwrap();
        let config = ServiceConfig { listen: (Ipv4Addr::LOCALHOST, 0).into(), store: store.clone() };
        let service = Service::start(config).await.unwrap();
        service.ready().await;
        let url = format!("http://{}", service.address());
        Self { _directory: directory, database, store, service, http: Client::new(), url }
    }

    async fn stop(mut self) {
        self.service.stop().await;
        self.database.stop().await;
    }

    async fn send(&self, method: Method, path: &str, who: Who<'_>, body: Option<Value>) -> reqwest::Response {
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

    async fn status(&self, method: Method, path: &str, who: Who<'_>, body: Option<Value>) -> StatusCode {
        self.send(method, path, who, body).await.status()
    }

    /// Adds a person with a role and gives a token.
    async fn token_of(&self, name: &str, role: Role) -> String {
        let person = NewPerson { name, password_hash: "unusable", role, created_at: 0 };
        self.store.add_person(&person).await.unwrap();
        let (secret, person) = (Secret::generate().unwrap(), self.store.person(name).await.unwrap().unwrap());
        self.store.add_credential(person.id, CredentialKind::Token, "test", &secret, 0, i64::MAX).await.unwrap();
        secret.reveal().to_owned()
    }
}

fn files(host: &str) -> Value {
    let gateway = format!(
        "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"500ms\"\n[[link]]\nname = \"process-bus\"\nprotocol = \
         \"modbus-tcp\"\nhost = \"{host}\"\nport = 1\n[[device]]\nname = \"gas-analyser\"\nlink = \"process-bus\"\nunit = 3\n\
         points = \"points.csv\"\n"
    );
    let points = "name,address,type,rate,unit\nch4,input:0,uint16,fast,%\n";
    json!({ "files": { "gateway.toml": gateway, "points.csv": points }, "note": "first" })
}

#[tokio::test(flavor = "multi_thread")]
async fn the_api_keeps_out_who_has_no_business_there() {
    let api = Api::start().await;
    nothing_is_shown_to_nobody(&api).await;
    let cookie = set_up_works_once_with_the_printed_code(&api).await;
    a_cookie_only_works_from_the_console_itself(&api, &cookie).await;
    roles_are_kept_by_the_service(&api).await;
    what_is_not_reached_says_so(&api, &cookie).await;
    signing_out_ends_the_session(&api, &cookie).await;
    api.stop().await;
}

async fn nothing_is_shown_to_nobody(api: &Api) {
    let document: Value = api.send(Method::GET, "/api/v1/openapi.json", Who::Nobody, None).await.json().await.unwrap();
    let mut kept = 0;
    for (path, calls) in document["paths"].as_object().unwrap() {
        for (method, call) in calls.as_object().unwrap() {
            let method: Method = method.to_uppercase().parse().unwrap();
            let path = path.replace("{gateway}", "g").replace("{device}", "d").replace("{point}", "p");
            // What needs no sign-in is the way in itself, and what machines ask.
            let is_open = ["/api/v1/setup", "/api/v1/tokens", "/healthz", "/readyz", "/metrics"]
                .contains(&path.as_str())
                || (path == "/api/v1/session" && method != Method::GET);
            if is_open {
                continue;
            }
            let body = call.get("requestBody").map(|_| json!({}));
            for who in [Who::Nobody, Who::Token("guess"), Who::Cookie("guess")] {
                let status = api.status(method.clone(), &path, who, body.clone()).await;
                assert_eq!(status, StatusCode::UNAUTHORIZED, "{method} {path} {who:?}");
            }
            kept += 1;
        }
    }
    assert!(kept >= 10, "{kept}");
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

async fn roles_are_kept_by_the_service(api: &Api) {
    let roles = [
        ("vera", Role::Viewer, StatusCode::FORBIDDEN),
        ("otto", Role::Operator, StatusCode::FORBIDDEN),
        ("emma", Role::Engineer, StatusCode::CREATED),
    ];
    for (name, role, wanted) in roles {
        let token = api.token_of(name, role).await;
        let who = Who::Token(&token);
        assert_eq!(api.status(Method::GET, "/api/v1/status", who, None).await, StatusCode::OK, "{name} may look");
        let activated = api.status(Method::POST, "/api/v1/revisions", who, Some(files("127.0.0.1"))).await;
        assert_eq!(activated, wanted, "{name}");
    }
}

async fn what_is_not_reached_says_so(api: &Api, cookie: &str) {
    let get = async |path: &str| {
        let answer = api.send(Method::GET, path, Who::Cookie(cookie), None).await;
        answer.json::<Value>().await.unwrap()
    };
    // Nobody listens on port 1: the first attempt has failed, or will at once.
    loop {
        let link = get("/api/v1/status").await["gateways"][0]["links"][0].clone();
        if link["state"] == "down" {
            assert!(link["last_error"].as_str().unwrap().starts_with("cannot connect: "), "{link}");
            assert_eq!(link["devices"][0]["state"], "unreachable");
            break;
        }
        tokio::task::yield_now().await;
    }
    let point = get("/api/v1/points/alderfen-1/gas-analyser/ch4").await;
    assert_eq!((point["quality"].as_str(), point["value"].clone()), (Some("bad"), Value::Null), "{point}");
    assert_eq!(get("/api/v1/points?quality=good").await, json!([]));
    assert_eq!(get("/api/v1/points/alderfen-1/gas-analyser/none").await["type"], "not-found");
    assert_eq!(get("/api/v1/points?quality=rotten").await["type"], "bad-request");
    let metrics = api.send(Method::GET, "/metrics", Who::Nobody, None).await.text().await.unwrap();
    for line in ["interlex_database_up 1", "interlex_link_up{gateway=\"alderfen-1\",link=\"process-bus\"} 0"] {
        assert!(metrics.lines().any(|text| text == line), "{line} in\n{metrics}");
    }
}

async fn signing_out_ends_the_session(api: &Api, cookie: &str) {
    let foreign = Who::CookieFrom(cookie, "http://evil.example");
    assert_eq!(api.status(Method::DELETE, "/api/v1/session", foreign, None).await, StatusCode::FORBIDDEN);
    assert_eq!(api.status(Method::GET, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::OK);
    assert_eq!(api.status(Method::DELETE, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::NO_CONTENT);
    assert_eq!(api.status(Method::GET, "/api/v1/session", Who::Cookie(cookie), None).await, StatusCode::UNAUTHORIZED);
}
