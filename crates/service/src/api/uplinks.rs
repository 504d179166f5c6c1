//! What people see and do of running uplinks.

use crate::access::auth::{Engineer, Operator, Viewer};
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_core::description::{JsonUplink, PointSettings, Selection, UplinkKind, list_of};
use interlex_gateway::{BufferView, Published, ReportPreview, Running, SentMessage, preview, report_preview};
use interlex_store::AuditEntry;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;

pub(crate) fn unknown(gateway: &str, uplink: &str) -> ApiError {
    ApiError::NotFound(format!("running uplink {gateway}/{uplink}"))
}

pub(crate) fn running(app: &App, gateway: &str, uplink: &str) -> Result<Arc<Running>, ApiError> {
    app.gateway(gateway).map(|gateway| gateway.running()).ok_or_else(|| unknown(gateway, uplink))
}

/// The buffer of an uplink: what waits, where samples are missing, and the last six hours in steps of ten seconds.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/uplinks/{uplink}/buffer", operation_id = "uplink_buffer", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("uplink" = String, Path)), responses(
    (status = 200, body = BufferView), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn buffer(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, uplink)): Path<(String, String)>,
) -> Result<Json<BufferView>, ApiError> {
    let view = running(&app, &gateway, &uplink)?.buffer(&uplink).await;
    view.map(Json).ok_or_else(|| unknown(&gateway, &uplink))
}

/// That somebody means it.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Purge {
    /// The name of the uplink once more.
    confirm: String,
}

/// What a purge did.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Purged {
    /// How many samples were thrown away.
    samples: u64,
}

/// Throws away everything that waits for the broker of an uplink. It cannot be undone, and is kept in the audit trail.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/uplinks/{uplink}/purge", operation_id = "uplink_purge", tag = "watch",
    request_body = Purge, extensions(("x-role" = json!("engineer"))),
    params(("gateway" = String, Path), ("uplink" = String, Path)), responses(
    (status = 200, body = Purged), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn purge(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, uplink)): Path<(String, String)>,
    Json(wanted): Json<Purge>,
) -> Result<Json<Purged>, ApiError> {
    let running = running(&app, &gateway, &uplink)?;
    if wanted.confirm != uplink {
        let told = format!("confirm is {:?}; expected the name of the uplink, {uplink:?}", wanted.confirm);
        return Err(ApiError::BadRequest(told));
    }
    let samples = running.purge(&uplink).await.ok_or_else(|| unknown(&gateway, &uplink))?;
    let detail = format!("uplink {uplink}: {samples} {} thrown away", if samples == 1 { "sample" } else { "samples" });
    app.audit(AuditEntry { action: "purge", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    Ok(Json(Purged { samples }))
}

/// Whether births were published.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct AskedBirths {
    /// False when the uplink is not online, has no births, or published some in the last ten seconds.
    asked: bool,
}

/// Lets a Sparkplug uplink publish its births anew: every value arrives once, also those that stand still.
///
/// Source: Sparkplug 3.0.0, tck-id-operational-behavior-data-commands-rebirth-action-3.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/uplinks/{uplink}/births", operation_id = "uplink_births", tag = "watch",
    extensions(("x-role" = json!("operator"))), params(("gateway" = String, Path), ("uplink" = String, Path)), responses(
    (status = 200, body = AskedBirths), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails)))]
pub(crate) async fn births(
    State(app): State<Arc<App>>,
    _: Operator,
    Path((gateway, uplink)): Path<(String, String)>,
) -> Result<Json<AskedBirths>, ApiError> {
    let asked = running(&app, &gateway, &uplink)?.ask_births(&uplink).await;
    asked.map(|asked| Json(AskedBirths { asked })).ok_or_else(|| unknown(&gateway, &uplink))
}

/// What an uplink published last of a point; `null` when nothing was since the first question about it.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/uplinks/{uplink}/published/{device}/{point}",
    operation_id = "uplink_published", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(("gateway" = String, Path), ("uplink" = String, Path), ("device" = String, Path), ("point" = String, Path)), responses(
    (status = 200, body = Option<Published>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn published(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, uplink, device, point)): Path<(String, String, String, String)>,
) -> Result<Json<Option<Published>>, ApiError> {
    let published = running(&app, &gateway, &uplink)?.published(&uplink, &device, &point).await;
    published
        .map(Json)
        .ok_or_else(|| ApiError::NotFound(format!("point {gateway}/{device}/{point} at uplink {uplink:?}")))
}

/// The last fifty messages of an uplink that were made from templates, oldest first, also those that could not be made.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/uplinks/{uplink}/messages", operation_id = "uplink_messages", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("uplink" = String, Path)), responses(
    (status = 200, body = Vec<SentMessage>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn messages(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, uplink)): Path<(String, String)>,
) -> Result<Json<Vec<SentMessage>>, ApiError> {
    let known = running(&app, &gateway, &uplink)?;
    let described = known.description().uplinks.iter().find(|described| described.settings.name.as_str() == uplink);
    if described.is_some_and(|described| matches!(described.kind, UplinkKind::Sparkplug(_))) {
        let what = format!("message from templates at uplink {uplink:?}, which publishes Sparkplug B");
        return Err(ApiError::NotFound(what));
    }
    known.messages(&uplink).await.map(Json).ok_or_else(|| unknown(&gateway, &uplink))
}

/// An uplink whose messages are to be seen.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct PreviewRequest {
    /// An uplink of messages made from templates.
    uplink: Value,
}

/// What topic and payload may have together.
const LONGEST_TEMPLATES: usize = 64 << 10;

/// Makes the messages of an uplink from the values of the running gateway, without sending any: the first twenty. What is
/// wrong with a template is told with its line.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/messages", operation_id = "trial_messages", tag = "draft",
    request_body = PreviewRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = Vec<SentMessage>), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn try_messages(
    State(app): State<Arc<App>>,
    _: Engineer,
    Path(gateway): Path<String>,
    Json(PreviewRequest { uplink }): Json<PreviewRequest>,
) -> Result<Json<Vec<SentMessage>>, ApiError> {
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("running gateway {gateway:?}")))?;
    let selection = uplink.get("select").cloned().filter(|text| !text.is_null());
    let wrong = |error: serde_json::Error| ApiError::BadRequest(format!("uplink: {error}"));
    let selection = selection.map(serde_json::from_value::<Selection>).transpose().map_err(wrong)?;
    let own: JsonUplink = serde_json::from_value(uplink).map_err(wrong)?;
    if own.topic.len() + own.payload.len() > LONGEST_TEMPLATES {
        let message = format!("the templates have more than {} kB", LONGEST_TEMPLATES >> 10);
        return Err(ApiError::BadRequest(message));
    }
    Ok(Json(preview(&running.running(), &own, selection.as_ref()).await))
}

/// A device whose reports are to be weighed.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct ReportPreviewRequest {
    /// A device of the draft.
    device: String,
}

/// What the report settings of a device's points, as the draft has them, would have sent of the values that are remembered of
/// the running ones.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/reports", operation_id = "trial_reports", tag = "draft",
    request_body = ReportPreviewRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = Vec<ReportPreview>), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails)))]
pub(crate) async fn try_reports(
    State(app): State<Arc<App>>,
    _: Engineer,
    Path(gateway): Path<String>,
    Json(ReportPreviewRequest { device }): Json<ReportPreviewRequest>,
) -> Result<Json<Vec<ReportPreview>>, ApiError> {
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("running gateway {gateway:?}")))?;
    let opened = drafts::open(&app, &gateway).await?;
    let described =
        opened.draft.devices.iter().find(|known| known.get("name").and_then(Value::as_str) == Some(&device));
    let described = described.ok_or_else(|| ApiError::NotFound(format!("device {device:?}")))?;
    let rows = opened.draft.rows(&list_of(described));
    // A row that cannot be read yet is told by the check of the draft.
    let points: Vec<_> = rows.iter().filter_map(PointSettings::of_row).collect();
    Ok(Json(report_preview(&running.running(), &device, &points)))
}
