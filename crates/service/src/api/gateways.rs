use crate::access::auth::{Engineer, Viewer};
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use interlex_busy::watched;
use interlex_core::description::{self, Files, ObjectClass, ObjectRef, Problem, Severity};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, GatewayRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A gateway that the service knows.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct GatewayView {
    /// Its name.
    name: String,
    /// What people call it, in the revision that runs.
    title: String,
    /// Whether it runs.
    running: bool,
    /// Why its active revision does not run.
    problem: Option<String>,
    /// The number of its active revision; none while it was never activated.
    active: Option<u32>,
    /// Grows with every edit of the draft and every activation.
    version: u64,
    /// Whether the draft differs from the active revision, or may.
    edited: bool,
    /// Who changed the draft last.
    changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    changed_at: i64,
}

/// A gateway to add.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct NewGateway {
    /// Its name, unique in the service.
    name: String,
}

/// The files of a description.
#[derive(Debug, Serialize, Deserialize, utoipa::ToSchema)]
pub(crate) struct DescriptionFiles {
    /// Path relative to gateway.toml, and text.
    pub(crate) files: Files,
}

/// All gateways, by name.
#[utoipa::path(get, path = "/api/v1/gateways", operation_id = "list_gateways", tag = "gateways", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<GatewayView>), (status = 401, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
pub(crate) async fn list(State(app): State<Arc<App>>, _: Viewer) -> Result<Json<Vec<GatewayView>>, ApiError> {
    Ok(Json(app.store.gateways().await?.into_iter().map(|record| view(&app, record)).collect()))
}

/// Adds a gateway with an empty draft.
#[utoipa::path(post, path = "/api/v1/gateways", operation_id = "add_gateway", tag = "gateways", request_body = NewGateway,
    extensions(("x-role" = json!("engineer"))), responses((status = 201, body = GatewayView),
    (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 422, body = ProblemDetails)))]
pub(crate) async fn add(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Json(new): Json<NewGateway>,
) -> Result<(StatusCode, Json<GatewayView>), ApiError> {
    if let Err(expected) = description::name_form(&new.name) {
        let target = ObjectRef::new(ObjectClass::Gateway, new.name.as_str());
        let message = format!("name is {:?}", new.name);
        let problem = Problem::of_object(target, "name", Severity::Mistake, message, expected.to_owned());
        return Err(ApiError::Description(vec![problem]));
    }
    app.store.add_gateway(&new.name, &author.person, wall_clock().as_millis()).await?;
    app.audit(AuditEntry { action: "add-gateway", gateway: &new.name, ..author.entry() }).await;
    let record = app.store.gateway(&new.name).await?.ok_or_else(|| drafts::unknown(&new.name))?;
    Ok((StatusCode::CREATED, Json(view(&app, record))))
}

/// Stops a gateway and takes it away with its draft. Its revisions stay on record.
#[utoipa::path(delete, path = "/api/v1/gateways/{gateway}", operation_id = "remove_gateway", tag = "gateways", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("engineer"))), responses((status = 204), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn remove(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
) -> Result<StatusCode, ApiError> {
    // It goes on to its end even if the client breaks off: a gateway must not be left half stopped.
    let removing = tokio::spawn(watched("activation", gateway.clone(), async move {
        let _one_at_a_time = app.activating.lock().await;
        if !app.store.remove_gateway(&gateway, &author.person, wall_clock().as_millis()).await? {
            return Err(drafts::unknown(&gateway));
        }
        app.audit(AuditEntry { action: "remove-gateway", gateway: &gateway, ..author.entry() }).await;
        let running = app.gateways.write().remove(&gateway);
        app.failed.write().remove(&gateway);
        if let Some(running) = running {
            running.stop().await;
        }
        drafts::forget(&app, &gateway);
        Ok(StatusCode::NO_CONTENT)
    }));
    removing.await.map_err(ApiError::internal)?
}

/// The files of the active revision, in canonical form, with a placeholder for every secret.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/files", operation_id = "running_files", tag = "gateways", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))), responses((status = 200, body = DescriptionFiles),
    (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn files(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<DescriptionFiles>, ApiError> {
    // From memory, so that it can be had while the database is away.
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("running gateway {gateway:?}")))?;
    let draft = description::Draft::from(running.running().description());
    Ok(Json(DescriptionFiles { files: crate::draft::vault::masked(draft).to_files() }))
}

fn view(app: &App, record: GatewayRecord) -> GatewayView {
    let running = app.gateway(&record.name);
    GatewayView {
        title: running
            .as_ref()
            .map(|gateway| gateway.running().description().gateway.title.clone())
            .unwrap_or_default(),
        running: running.is_some(),
        problem: app.failed.read().get(&record.name).cloned(),
        name: record.name,
        active: record.active,
        version: record.version,
        edited: record.is_edited,
        changed_by: record.changed_by,
        changed_at: record.changed_at,
    }
}
