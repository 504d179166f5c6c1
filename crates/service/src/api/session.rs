use crate::access::auth::{Author, COOKIE, Source, Viewer, cookie, is_same_origin};
use crate::access::password;
use crate::api::extract::Json;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, CredentialKind, Person, Secret, SignedIn};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;

/// A working day: whoever starts the shift signs in.
const SESSION: Duration = Duration::from_secs(12 * 3600);
/// Tokens of scripts are renewed once a year.
const TOKEN: Duration = Duration::from_secs(365 * 24 * 3600);

/// Who is signed in.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct SignedInView {
    /// The name.
    name: String,
    /// viewer, operator, engineer or administrator.
    role: &'static str,
}

impl From<SignedIn> for SignedInView {
    fn from(who: SignedIn) -> Self {
        Self { role: who.role.word(), name: who.name }
    }
}

/// Name and password.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Credentials {
    name: String,
    password: String,
}

/// Name and password, and what the token is for.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TokenRequest {
    name: String,
    password: String,
    /// What it is for, such as the name of a computer.
    label: String,
}

/// A new token. It is shown this once.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Token {
    /// Send it as `Authorization: Bearer TOKEN`.
    token: String,
    /// Until when it is good, in milliseconds since 1970 UTC.
    expires_at: i64,
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session", tag = "people", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = SignedInView), (status = 401, body = ProblemDetails)))]
pub(crate) async fn who(Viewer(who): Viewer) -> Json<SignedInView> {
    Json(who.into())
}

/// Signs in with name and password; answers with a cookie.
#[utoipa::path(post, path = "/api/v1/session", tag = "people", request_body = Credentials, responses(
    (status = 200, body = SignedInView), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn sign_in(
    State(app): State<Arc<App>>,
    Source(source): Source,
    Json(credentials): Json<Credentials>,
) -> Result<Response, ApiError> {
    let person = check(&app, &source, credentials.name, credentials.password).await?;
    open_session(&app, &person.name, &source).await
}

/// Signs out: the cookie is good for nothing from now on.
#[utoipa::path(delete, path = "/api/v1/session", tag = "people", responses((status = 204)))]
pub(crate) async fn sign_out(
    State(app): State<Arc<App>>,
    Source(source): Source,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    if let Some(secret) = cookie(&headers) {
        if !is_same_origin(&headers) {
            return Err(ApiError::OtherOrigin);
        }
        app.seen.lock().remove(secret);
        let who = app.store.signed_in(CredentialKind::Session, secret, wall_clock().as_millis()).await?;
        app.store.remove_credential(secret).await?;
        app.rights_changed();
        if let Some(who) = who {
            let author = Author { person: who.name, source };
            app.audit(AuditEntry { action: "sign-out", ..author.entry() }).await;
        }
    }
    let gone = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, gone)]).into_response())
}

/// Makes a token for a client, with name and password.
#[utoipa::path(post, path = "/api/v1/tokens", tag = "people", request_body = TokenRequest, responses(
    (status = 201, body = Token), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn make_token(
    State(app): State<Arc<App>>,
    Source(source): Source,
    Json(wanted): Json<TokenRequest>,
) -> Result<(StatusCode, Json<Token>), ApiError> {
    let person = check(&app, &source, wanted.name, wanted.password).await?;
    let label: String = wanted.label.chars().take(128).collect();
    let (secret, expires_at) = add_credential(&app, person.id, CredentialKind::Token, &label, TOKEN).await?;
    let author = Author { person: person.name, source };
    app.audit(AuditEntry { action: "make-token", detail: &label, ..author.entry() }).await;
    Ok((StatusCode::CREATED, Json(Token { token: secret.reveal().to_owned(), expires_at })))
}

/// Opens a browser session and sets its cookie.
pub(crate) async fn open_session(app: &App, name: &str, source: &str) -> Result<Response, ApiError> {
    let person = app.store.person(name).await?.ok_or_else(|| ApiError::NotFound(format!("person {name:?}")))?;
    let (secret, _) = add_credential(app, person.id, CredentialKind::Session, source, SESSION).await?;
    app.audit(AuditEntry { person: name, source, action: "sign-in", detail: "console", ..AuditEntry::default() }).await;
    let (secret, seconds) = (secret.reveal(), SESSION.as_secs());
    let secure = if app.is_tls { "; Secure" } else { "" };
    let cookie = format!("{COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict{secure}; Max-Age={seconds}");
    let view = SignedInView { name: person.name, role: person.role.word() };
    Ok(([(header::SET_COOKIE, cookie)], Json(view)).into_response())
}

async fn add_credential(
    app: &App,
    person: u32,
    kind: CredentialKind,
    label: &str,
    good_for: Duration,
) -> Result<(Secret, i64), ApiError> {
    let secret = Secret::generate().map_err(|error| ApiError::Internal(error.to_string()))?;
    let now = wall_clock();
    let expires_at = now.plus(good_for).as_millis();
    app.store.add_credential(person, kind, label, &secret, now.as_millis(), expires_at).await?;
    Ok((secret, expires_at))
}

/// The person, if the password is theirs.
async fn look(app: &App, name: &str, password: String) -> Result<Option<Person>, ApiError> {
    let person = app.store.person(name).await?;
    let hash = person.as_ref().map(|person| person.password_hash.clone());
    let is_right = password::verify(password, hash).await?;
    Ok(person.filter(|_| is_right))
}

/// Checks name and password; failures are counted against the address and the name.
pub(crate) async fn check(app: &App, source: &str, name: String, password: String) -> Result<Person, ApiError> {
    let reserved = app.attempts.reserve(source, &name, wall_clock());
    reserved.map_err(|wait| ApiError::TooManyAttempts(wait.as_secs() + 1))?;
    let looked = look(app, &name, password).await;
    match looked.inspect_err(|_| app.attempts.give_back(source, &name))? {
        Some(person) => {
            app.attempts.succeeded(source, &name);
            Ok(person)
        }
        None => {
            // Whatever was typed, or made up: the audit trail keeps the beginning of it.
            let name: String = name.chars().take(64).flat_map(char::escape_debug).collect();
            let entry = AuditEntry { person: &name, source, action: "sign-in-failed", ..AuditEntry::default() };
            app.audit(entry).await;
            Err(ApiError::WrongCredentials("name and password do not fit"))
        }
    }
}
