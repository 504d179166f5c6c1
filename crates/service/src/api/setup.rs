use crate::access::auth::Source;
use crate::access::password;
use crate::api::extract::Json;
use crate::api::people::person_name;
use crate::api::session::{SignedInView, open_session};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, NewPerson, Role};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Whether the first person has still to be named.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct SetupState {
    /// Whether nobody can sign in yet.
    needed: bool,
}

/// The first person.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Setup {
    /// The one-time code that the service printed when it started.
    code: String,
    /// The name to sign in with.
    name: String,
    /// The password, 8 characters or more.
    password: String,
}

/// What attempts with the code are counted under: no name that a person can have.
const SET_UP: &str = "\u{0}set-up";

/// Whether the first set-up is still to be done.
#[utoipa::path(get, path = "/api/v1/setup", operation_id = "setup_state", tag = "people", responses((status = 200, body = SetupState)))]
pub(crate) async fn state(State(app): State<Arc<App>>) -> Result<Json<SetupState>, ApiError> {
    Ok(Json(SetupState { needed: app.store.has_nobody().await? }))
}

/// Names the administrator and signs in. Works once, with the code that the service printed.
#[utoipa::path(post, path = "/api/v1/setup", operation_id = "set_up", tag = "people", request_body = Setup, responses(
    (status = 201, body = SignedInView), (status = 401, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 429, body = ProblemDetails),
))]
pub(crate) async fn carry_out(
    State(app): State<Arc<App>>,
    Source(source): Source,
    Json(wanted): Json<Setup>,
) -> Result<(StatusCode, Response), ApiError> {
    let reserved = app.attempts.reserve(&source, SET_UP, wall_clock());
    reserved.map_err(|wait| ApiError::TooManyAttempts(wait.as_secs() + 1))?;
    let is_right = app.setup_code.lock().as_deref().is_some_and(|code| code.eq_ignore_ascii_case(wanted.code.trim()));
    if !is_right {
        let entry =
            AuditEntry { source: &source, action: "set-up-failed", detail: "wrong code", ..AuditEntry::default() };
        app.audit(entry).await;
        return Err(ApiError::WrongCredentials("this is not the code that the service printed when it started"));
    }
    app.attempts.give_back(&source, SET_UP);
    let name = person_name(&wanted.name)?;
    let password_hash = password::hash(wanted.password).await?;
    let created_at = wall_clock().as_millis();
    let person = NewPerson { name, password_hash: &password_hash, role: Role::Administrator, created_at };
    if !app.store.add_first_person(&person).await? {
        return Err(ApiError::Conflict("somebody has set up this service already; sign in".to_owned()));
    }
    *app.setup_code.lock() = None;
    let (action, detail) = ("set-up", "administrator named");
    app.audit(AuditEntry { person: name, source: &source, action, detail, ..AuditEntry::default() }).await;
    Ok((StatusCode::CREATED, open_session(&app, name, &source).await?))
}
