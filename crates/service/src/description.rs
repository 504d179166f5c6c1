use crate::auth::{Engineer, Source, Viewer};
use crate::extract::{Json, Path};
use crate::{ApiError, App, ProblemDetails, activation};
use axum::extract::State;
use axum::http::StatusCode;
use interlex_core::description::{self, Files, ObjectKind, Problem};
use interlex_store::RevisionSummary;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The files of a description.
#[derive(Debug, Serialize, Deserialize, utoipa::ToSchema)]
pub(crate) struct DescriptionFiles {
    /// Path relative to gateway.toml, and text.
    files: Files,
}

/// What is wrong with a description.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct CheckResult {
    /// Every mistake, with its place; empty when it would run.
    #[schema(value_type = Vec<serde_json::Value>)]
    problems: Vec<Problem>,
}

/// A description to activate.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Activation {
    /// Path relative to gateway.toml, and text.
    files: Files,
    /// Why.
    note: String,
}

/// What was activated.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Activated {
    /// The gateway.
    gateway: String,
    /// The number of the new revision.
    revision: u32,
}

/// One revision of a gateway.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct RevisionView {
    /// Its number.
    number: u32,
    /// Who activated it.
    author: String,
    /// When, in milliseconds since 1970 UTC.
    activated_at: i64,
    /// Why.
    note: String,
}

/// Checks a description without changing anything.
#[utoipa::path(post, path = "/api/v1/check", tag = "description", request_body = DescriptionFiles,
    responses((status = 200, body = CheckResult), (status = 401, body = ProblemDetails)))]
pub(crate) async fn check(
    State(app): State<Arc<App>>,
    _: Viewer,
    Json(description): Json<DescriptionFiles>,
) -> Json<CheckResult> {
    Json(CheckResult { problems: activation::check(&app, &description.files).err().unwrap_or_default() })
}

/// Activates a description as the next revision of its gateway.
#[utoipa::path(post, path = "/api/v1/revisions", tag = "description", request_body = Activation, responses(
    (status = 201, body = Activated), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 422, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
pub(crate) async fn activate(
    State(app): State<Arc<App>>,
    Engineer(who): Engineer,
    Source(source): Source,
    Json(wanted): Json<Activation>,
) -> Result<(StatusCode, Json<Activated>), ApiError> {
    // Activation goes on to its end even if the client breaks off: a gateway must not be left half started.
    let activating = tokio::spawn(async move {
        let (gateway, revision) = activation::activate(&app, &wanted.files, &who.name, &wanted.note).await?;
        app.audit(&who.name, &source, "activate", &format!("{gateway} revision {revision}: {}", wanted.note)).await;
        Ok(Activated { gateway, revision })
    });
    let activated = activating.await.map_err(|error| ApiError::Internal(error.to_string()))?;
    activated.map(|activated| (StatusCode::CREATED, Json(activated)))
}

/// The files of the active revision, in canonical form.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/files", tag = "description", params(("gateway" = String, Path)),
    responses((status = 200, body = DescriptionFiles), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn files(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<DescriptionFiles>, ApiError> {
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("gateway {gateway:?}")))?;
    Ok(Json(DescriptionFiles { files: description::write(running.description()) }))
}

/// The revisions of a gateway, the newest first.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/revisions", tag = "description",
    params(("gateway" = String, Path)),
    responses((status = 200, body = Vec<RevisionView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn revisions(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<Vec<RevisionView>>, ApiError> {
    let view = |summary: RevisionSummary| RevisionView {
        number: summary.number,
        author: summary.author,
        activated_at: summary.activated_at,
        note: summary.note,
    };
    Ok(Json(app.store.revisions(&gateway).await?.into_iter().map(view).collect()))
}

/// The JSON Schema of each kind of object that a description is made of.
#[utoipa::path(get, path = "/api/v1/schema", tag = "description",
    responses((status = 200, body = serde_json::Value), (status = 401, body = ProblemDetails)))]
pub(crate) async fn schemas(_: Viewer) -> Json<serde_json::Value> {
    let kinds = [
        ("gateway", ObjectKind::Gateway),
        ("link/modbus-tcp", ObjectKind::ModbusTcpLink),
        ("device/modbus", ObjectKind::ModbusDevice),
        ("uplink/sparkplug", ObjectKind::SparkplugUplink),
        ("point", ObjectKind::Point),
    ];
    Json(kinds.into_iter().map(|(name, kind)| (name.to_owned(), description::schema(kind).clone())).collect())
}
