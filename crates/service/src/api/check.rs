use crate::access::auth::{Engineer, Viewer};
use crate::api::extract::{Json, Path};
use crate::api::gateways::DescriptionFiles;
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_core::description::{self, Files, Problem};
use serde::Serialize;
use std::sync::Arc;

/// What is wrong with a description.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct CheckResult {
    /// The version of the draft that was checked; 0 for files.
    version: u64,
    /// How many keep it from running.
    mistakes: usize,
    /// Every mistake and warning, with its place.
    problems: Vec<Problem>,
}

/// Finds everything in a draft that would not run, or would surprise.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/draft/check", operation_id = "check_draft", tag = "draft", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))), responses((status = 200, body = CheckResult),
    (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn check(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<CheckResult>, ApiError> {
    check_of(&app, &gateway).await
}

pub(super) async fn check_of(app: &App, gateway: &str) -> Result<Json<CheckResult>, ApiError> {
    let opened = drafts::open(app, gateway).await?;
    let problems = drafts::check(app, &opened).await?.problems;
    Ok(Json(result(opened.record.version, problems)))
}

fn result(version: u64, problems: Vec<Problem>) -> CheckResult {
    CheckResult { version, mistakes: problems.iter().filter(|problem| problem.is_mistake()).count(), problems }
}

/// So many rows may come in one request: what is known of each while it is checked takes some kilobytes.
const MOST_AT_ONCE: usize = 250_000;
/// So many points a gateway may have, whose description comes in parts.
const MOST_POINTS: usize = 1_000_000;

fn rows(files: &Files) -> usize {
    // Each list has its headings, too.
    let rows = |text: &String| text.bytes().filter(|byte| *byte == b'\n').count().saturating_sub(1);
    files.iter().filter(|(path, _)| path.ends_with(".csv")).map(|(_, text)| rows(text)).sum()
}

pub(super) fn is_bounded(files: &Files) -> Result<(), ApiError> {
    rows_fit(rows(files))
}

/// Whether so many rows are no more than may come in one request.
pub(super) fn rows_fit(rows: usize) -> Result<(), ApiError> {
    let told = || {
        format!("there are {rows} rows; one request may have {MOST_AT_ONCE}: send it in parts, as config apply does")
    };
    if rows <= MOST_AT_ONCE { Ok(()) } else { Err(too_many(told())) }
}

/// Whether files that came in parts have no more points than a gateway may have.
pub(super) fn points_fit(files: &Files) -> Result<(), ApiError> {
    let rows = rows(files);
    let told =
        || format!("the lists have {rows} rows; a gateway may have {MOST_POINTS} points: describe several gateways");
    if rows <= MOST_POINTS { Ok(()) } else { Err(too_many(told())) }
}

fn too_many(told: String) -> ApiError {
    ApiError::Rejected(axum::http::StatusCode::PAYLOAD_TOO_LARGE, told)
}

/// Checks files without changing anything; problems come with file, line and column.
#[utoipa::path(post, path = "/api/v1/check", operation_id = "check_files", tag = "draft", request_body = DescriptionFiles,
    extensions(("x-role" = json!("engineer"))),
    responses((status = 200, body = CheckResult), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 413, body = ProblemDetails)))]
pub(crate) async fn check_files(
    State(app): State<Arc<App>>,
    _: Engineer,
    Json(described): Json<DescriptionFiles>,
) -> Result<Json<CheckResult>, ApiError> {
    is_bounded(&described.files)?;
    let (mut checked, draft) = description::check_and_parse(&described.files);
    checked.description = None;
    if let Some(draft) = draft {
        let known = match drafts::open(&app, draft.name()).await {
            Ok(opened) => Arc::clone(&opened.draft),
            Err(ApiError::NotFound(_)) => Arc::default(),
            Err(error) => return Err(error),
        };
        if let Ok(draft) = drafts::keepable(&app, &described.files, draft, &known) {
            let name = draft.name().to_owned();
            checked.add(drafts::surroundings(&app, &draft, &name).await?);
        }
    }
    Ok(Json(result(0, checked.problems)))
}
