use crate::access::auth::{Author, Engineer, Source, Viewer};
use crate::api::extract::{Json, Path, Query};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use interlex_gateway::{FrameFilter, FrameView, LinkStatistics, RequestView, Running};
use interlex_store::{AuditEntry, Role};
use serde::Deserialize;
use std::sync::Arc;

/// Which frames to list.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct FrameQuery {
    /// Only those with a greater number.
    after: Option<u64>,
    /// Only those of this device.
    device: Option<String>,
    /// Only those that tell of something wrong.
    #[serde(default)]
    errors: bool,
}

fn unknown(gateway: &str, link: &str) -> ApiError {
    ApiError::NotFound(format!("running link {gateway}/{link}"))
}

fn running(app: &App, gateway: &str, link: &str) -> Result<Arc<Running>, ApiError> {
    app.gateway(gateway).map(|gateway| gateway.running()).ok_or_else(|| unknown(gateway, link))
}

/// The newest frames of a link, the oldest first. Each link keeps up to 2000.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/links/{link}/frames", operation_id = "link_frames", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("link" = String, Path), FrameQuery), responses(
    (status = 200, body = Vec<FrameView>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn frames(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, link)): Path<(String, String)>,
    Query(query): Query<FrameQuery>,
) -> Result<Json<Vec<FrameView>>, ApiError> {
    let running = running(&app, &gateway, &link)?;
    if let Some(device) = query.device.as_deref().filter(|device| !is_behind(&running, &link, device)) {
        return Err(ApiError::NotFound(format!("device {device:?} behind link {link:?}")));
    }
    let filter = FrameFilter { after: query.after, device: query.device, errors: query.errors };
    running.frames(&link, &filter).map(Json).ok_or_else(|| unknown(&gateway, &link))
}

fn is_behind(running: &Running, link: &str, device: &str) -> bool {
    running.description().behind(link).any(|known| known.settings.name.as_str() == device)
}

/// Why frames are not saved just like that.
const SECURED: &str = "what this link says is secured on its way, and in the file everybody could read it";

/// How to save frames.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct CaptureQuery {
    /// Whether messages that were secured on their way may stand in the file for everybody to read.
    #[serde(default, rename = "in-the-clear")]
    in_the_clear: bool,
}

/// The newest frames of a link as a pcapng file. Modbus TCP goes to port 502; RTU and ASCII frames go to port 5020; OPC UA to port
/// 4840, as it was before it was secured: a secured link needs the role engineer, and `in-the-clear`.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/links/{link}/frames.pcapng", operation_id = "link_capture", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("link" = String, Path), CaptureQuery),
    responses((status = 200, content_type = "application/x-pcapng"), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn capture(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Source(source): Source,
    Path((gateway, link)): Path<(String, String)>,
    Query(query): Query<CaptureQuery>,
) -> Result<impl IntoResponse, ApiError> {
    let running = running(&app, &gateway, &link)?;
    if running.is_secured(&link).unwrap_or(false) {
        if who.role < Role::Engineer {
            return Err(ApiError::Forbidden(Role::Engineer.word()));
        }
        if !query.in_the_clear {
            return Err(ApiError::Conflict(format!("{SECURED}; say in-the-clear where that is meant")));
        }
        let author = Author { person: who.name, source };
        app.audit(AuditEntry { action: "save-frames", detail: &link, gateway: &gateway, ..author.entry() }).await;
    }
    let bytes = running.capture(&link).ok_or_else(|| unknown(&gateway, &link))?;
    let headers = [
        (header::CONTENT_TYPE, "application/x-pcapng"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"frames.pcapng\""),
    ];
    Ok((headers, bytes))
}

/// What a link and its devices counted since the link runs.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/links/{link}/statistics", operation_id = "link_statistics", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("link" = String, Path)), responses(
    (status = 200, body = LinkStatistics), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn statistics(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, link)): Path<(String, String)>,
) -> Result<Json<LinkStatistics>, ApiError> {
    running(&app, &gateway, &link)?.statistics(&link).map(Json).ok_or_else(|| unknown(&gateway, &link))
}

/// Lets a link and its devices count from nothing on again.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/links/{link}/statistics/reset", operation_id = "reset_link_statistics",
    tag = "watch", extensions(("x-role" = json!("engineer"))), params(("gateway" = String, Path), ("link" = String, Path)), responses(
    (status = 204), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn reset_statistics(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, link)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    if !running(&app, &gateway, &link)?.reset_statistics(&link) {
        return Err(unknown(&gateway, &link));
    }
    app.audit(AuditEntry { action: "reset-statistics", detail: &link, gateway: &gateway, ..author.entry() }).await;
    Ok(StatusCode::NO_CONTENT)
}

/// The requests that a link sends: as planned, and the parts that refusals and silences made of them.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/links/{link}/requests", operation_id = "link_requests", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("link" = String, Path)), responses(
    (status = 200, body = Vec<RequestView>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn requests(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, link)): Path<(String, String)>,
) -> Result<Json<Vec<RequestView>>, ApiError> {
    let running = running(&app, &gateway, &link)?;
    running.requests(&link).await.map(Json).ok_or_else(|| unknown(&gateway, &link))
}

/// Whose learned splits to try anew.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Relearn {
    /// A device; all behind the link when it is left out.
    #[serde(default)]
    device: Option<String>,
}

/// Tries anew, now, what was learned about addresses: for a device that has been repaired.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/links/{link}/relearn", operation_id = "link_relearn", tag = "watch",
    request_body = Relearn, extensions(("x-role" = json!("engineer"))), params(("gateway" = String, Path), ("link" = String, Path)), responses(
    (status = 204), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn relearn(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, link)): Path<(String, String)>,
    Json(wanted): Json<Relearn>,
) -> Result<StatusCode, ApiError> {
    let running = running(&app, &gateway, &link)?;
    if let Some(device) = wanted.device.as_deref().filter(|device| !is_behind(&running, &link, device)) {
        return Err(ApiError::NotFound(format!("device {device:?} behind link {link:?}")));
    }
    let detail = wanted.device.clone().unwrap_or_else(|| link.clone());
    if !running.relearn(&link, wanted.device).await {
        return Err(unknown(&gateway, &link));
    }
    app.audit(AuditEntry { action: "relearn", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    Ok(StatusCode::NO_CONTENT)
}
