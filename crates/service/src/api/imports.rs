use crate::access::auth::Engineer;
use crate::api::check::is_bounded;
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_core::description::{Others, PointsImport, Problem, difference, import_points};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, Edit};
use serde::Deserialize;
use std::sync::Arc;

/// A point list to take over into a draft.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct ImportRequest {
    /// Path of the list.
    list: String,
    /// The list as CSV with a heading, as spreadsheets write it.
    text: String,
    /// Whether points that it does not name go.
    #[serde(default)]
    remove_others: bool,
    /// The version of the draft that was looked at. Without one nothing is changed: what would change is told.
    #[serde(default)]
    version: Option<u64>,
}

/// Takes a point list over into a draft, or tells what that would change. With mistakes in it, nothing is changed.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/import", operation_id = "import_points", tag = "draft", request_body = ImportRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = PointsImport), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn import(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<ImportRequest>,
) -> Result<Json<PointsImport>, ApiError> {
    is_bounded(&[("list.csv".to_owned(), wanted.text.clone())].into())?;
    let opened = drafts::open(&app, &gateway).await?;
    let others = if wanted.remove_others { Others::Go } else { Others::Stay };
    let (after, import) = import_points(&opened.draft, &wanted.list, &wanted.text, others);
    let Some(version) = wanted.version else { return Ok(Json(import)) };
    if opened.record.version != version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    if import.problems.iter().any(Problem::is_mistake) {
        return Err(ApiError::Description(import.problems));
    }
    let edit =
        Edit { gateway: &opened.record, seed: &opened.draft, person: &author.person, at: wall_clock().as_millis() };
    let told = difference(Some(&opened.draft), &after);
    if !told.is_empty() {
        app.store.replace_draft(&edit, &after).await.map_err(drafts::edit_failed)?;
        let detail = format!(
            "{}: {} added, {} changed, {} removed",
            wanted.list,
            import.added.len(),
            import.changed.len(),
            import.removed.len()
        );
        let after = Some(told.to_string());
        let entry = AuditEntry { action: "import-points", detail: &detail, gateway: &gateway, after, ..author.entry() };
        app.audit(entry).await;
    }
    Ok(Json(import))
}
