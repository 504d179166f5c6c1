use crate::access::auth::{Administrator, Author, Source, Viewer};
use crate::access::password;
use crate::api::extract::{Json, Path};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, NewPerson, PersonSummary, Role, TokenRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A person.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct PersonView {
    /// The name to sign in with.
    name: String,
    /// viewer, operator, engineer or administrator.
    role: &'static str,
    /// Since when the person is known, in milliseconds since 1970 UTC.
    created_at: i64,
}

/// A person to add.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct NewPersonRequest {
    /// The name to sign in with, unique.
    name: String,
    /// A first password, 8 characters or more. The person should change it.
    password: String,
    /// viewer, operator, engineer or administrator.
    #[schema(value_type = String)]
    role: Role,
}

/// What changes about a person.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct PersonChange {
    /// Another role.
    #[schema(value_type = Option<String>)]
    role: Option<Role>,
    /// Another password; the person is signed out everywhere.
    password: Option<String>,
}

/// A change of one's own password.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct PasswordChange {
    /// The present one.
    old: String,
    /// The new one, 8 characters or more.
    new: String,
}

/// A token as it is listed: everything but what is secret.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct TokenView {
    /// A number to name it by.
    id: String,
    /// Whose it is.
    person: String,
    /// What it is for.
    label: String,
    /// When it was made, in milliseconds since 1970 UTC.
    created_at: i64,
    /// Until when it is good.
    expires_at: i64,
}

impl From<PersonSummary> for PersonView {
    fn from(person: PersonSummary) -> Self {
        Self { name: person.name, role: person.role.word(), created_at: person.created_at }
    }
}

impl From<TokenRecord> for TokenView {
    fn from(token: TokenRecord) -> Self {
        let TokenRecord { id, person, label, created_at, expires_at } = token;
        Self { id, person, label, created_at, expires_at }
    }
}

/// Everybody who can sign in.
#[utoipa::path(get, path = "/api/v1/people", operation_id = "list_people", tag = "people", extensions(("x-role" = json!("administrator"))), responses(
    (status = 200, body = Vec<PersonView>), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails)))]
pub(crate) async fn list(State(app): State<Arc<App>>, _: Administrator) -> Result<Json<Vec<PersonView>>, ApiError> {
    Ok(Json(app.store.people().await?.into_iter().map(PersonView::from).collect()))
}

/// Adds a person.
#[utoipa::path(post, path = "/api/v1/people", operation_id = "add_person", tag = "people", request_body = NewPersonRequest,
    extensions(("x-role" = json!("administrator"))), responses((status = 201), (status = 400, body = ProblemDetails),
    (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn add(
    State(app): State<Arc<App>>,
    Administrator(author): Administrator,
    Json(wanted): Json<NewPersonRequest>,
) -> Result<StatusCode, ApiError> {
    let name = person_name(&wanted.name)?;
    let password_hash = password::hash(wanted.password).await?;
    let created_at = wall_clock().as_millis();
    app.store.add_person(&NewPerson { name, password_hash: &password_hash, role: wanted.role, created_at }).await?;
    audit(&app, &author, "add-person", name, wanted.role.word()).await;
    Ok(StatusCode::CREATED)
}

/// A name to sign in with.
pub(crate) fn person_name(text: &str) -> Result<&str, ApiError> {
    let name = text.trim();
    if name.is_empty() || name.chars().count() > 128 || name.contains(char::is_control) {
        return Err(ApiError::BadRequest("a name has 1 to 128 characters".to_owned()));
    }
    Ok(name)
}

/// Gives a person another role or another password. The last administrator stays one.
#[utoipa::path(patch, path = "/api/v1/people/{name}", operation_id = "change_person", tag = "people", request_body = PersonChange,
    params(("name" = String, Path)), extensions(("x-role" = json!("administrator"))), responses((status = 204),
    (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn change(
    State(app): State<Arc<App>>,
    Administrator(author): Administrator,
    Path(name): Path<String>,
    Json(wanted): Json<PersonChange>,
) -> Result<StatusCode, ApiError> {
    let person = app.store.person(&name).await?.ok_or_else(|| ApiError::NotFound(format!("person {name:?}")))?;
    if let Some(role) = wanted.role.filter(|role| *role != person.role) {
        if !app.store.set_role(&name, role).await? {
            return Err(last_administrator());
        }
        app.forget(&name);
        audit(&app, &author, "change-role", &name, &format!("{} → {}", person.role.word(), role.word())).await;
    }
    if let Some(password) = wanted.password {
        app.store.set_password(&name, &password::hash(password).await?).await?;
        app.forget(&name);
        audit(&app, &author, "set-password", &name, "").await;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Takes a person away, with all sessions and tokens. The last administrator stays.
#[utoipa::path(delete, path = "/api/v1/people/{name}", operation_id = "remove_person", tag = "people", params(("name" = String, Path)),
    extensions(("x-role" = json!("administrator"))), responses((status = 204), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn remove(
    State(app): State<Arc<App>>,
    Administrator(author): Administrator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    app.store.person(&name).await?.ok_or_else(|| ApiError::NotFound(format!("person {name:?}")))?;
    if !app.store.remove_person(&name).await? {
        return Err(last_administrator());
    }
    app.forget(&name);
    audit(&app, &author, "remove-person", &name, "").await;
    Ok(StatusCode::NO_CONTENT)
}

fn last_administrator() -> ApiError {
    ApiError::Conflict("somebody has to stay administrator; make another one first".to_owned())
}

/// Changes one's own password; all sessions and tokens end, this one too.
#[utoipa::path(put, path = "/api/v1/session/password", operation_id = "change_password", tag = "people", request_body = PasswordChange,
    extensions(("x-role" = json!("viewer"))), responses((status = 204), (status = 400, body = ProblemDetails),
    (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn change_password(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Source(source): Source,
    Json(wanted): Json<PasswordChange>,
) -> Result<StatusCode, ApiError> {
    crate::api::session::check(&app, &source, who.name.clone(), wanted.old).await?;
    app.store.set_password(&who.name, &password::hash(wanted.new).await?).await?;
    app.forget(&who.name);
    let author = Author { person: who.name, source };
    audit(&app, &author, "set-password", &author.person, "their own").await;
    Ok(StatusCode::NO_CONTENT)
}

/// Tokens: one's own, and for an administrator everybody's.
#[utoipa::path(get, path = "/api/v1/tokens", operation_id = "list_tokens", tag = "people", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<TokenView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn tokens(State(app): State<Arc<App>>, Viewer(who): Viewer) -> Result<Json<Vec<TokenView>>, ApiError> {
    let own = (who.role < Role::Administrator).then_some(who.name.as_str());
    Ok(Json(app.store.tokens(own).await?.into_iter().map(TokenView::from).collect()))
}

/// Makes a token good for nothing: one's own, or as an administrator anybody's.
#[utoipa::path(delete, path = "/api/v1/tokens/{id}", operation_id = "remove_token", tag = "people", params(("id" = String, Path)),
    extensions(("x-role" = json!("viewer"))),
    responses((status = 204), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn remove_token(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Source(source): Source,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let own = (who.role < Role::Administrator).then_some(who.name.as_str());
    if !app.store.remove_token(&id, own).await? {
        return Err(ApiError::NotFound(format!("token {id:?}")));
    }
    // Whose it was is not known here; everybody is asked for their credentials anew.
    app.seen.lock().clear();
    app.rights_changed();
    let author = Author { person: who.name, source };
    audit(&app, &author, "remove-token", "", &id).await;
    Ok(StatusCode::NO_CONTENT)
}

async fn audit(app: &App, author: &Author, action: &str, person: &str, detail: &str) {
    let object = if person.is_empty() { String::new() } else { format!("person {person:?}") };
    app.audit(AuditEntry { action, detail, object: &object, ..author.entry() }).await;
}
