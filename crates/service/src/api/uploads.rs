//! Descriptions that are larger than one request may be: in parts, with progress, and in the place of the draft once all is there.

use crate::access::auth::Engineer;
use crate::api::check::{CheckResult, points_fit};
use crate::api::draft::replaced;
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::draft::uploads::Of;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// An upload, and how much of it has come.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct UploadView {
    /// Its number.
    upload: u64,
    /// How many bytes of files have come.
    bytes: usize,
}

/// Parts of files, in their order.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct UploadParts {
    /// Each of one file; those of small files come together.
    parts: Vec<UploadPart>,
}

/// A part of a file.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct UploadPart {
    /// Path relative to gateway.toml.
    path: String,
    /// How many bytes of the file came before it.
    at: usize,
    /// What comes.
    text: String,
}

/// Everything has come.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct UploadEnd {
    /// The version of the draft that was looked at.
    version: u64,
}

/// Begins an upload of files. It is given up when nothing comes for ten minutes.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/uploads", operation_id = "begin_upload", tag = "draft",
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses((status = 201, body = UploadView),
    (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails),
    (status = 429, body = ProblemDetails)))]
pub(crate) async fn begin(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
) -> Result<(StatusCode, Json<UploadView>), ApiError> {
    if app.store.gateway(&gateway).await?.is_none() {
        return Err(drafts::unknown(&gateway));
    }
    let upload = app.uploads.begin(&author.person, &gateway)?;
    Ok((StatusCode::CREATED, Json(UploadView { upload, bytes: 0 })))
}

/// Takes parts of files: those of one file come in their order, and what was sent already may be sent again when its answer was lost.
/// Those before one that is refused are taken.
#[utoipa::path(put, path = "/api/v1/gateways/{gateway}/draft/uploads/{upload}", operation_id = "upload_parts", tag = "draft",
    request_body = UploadParts, params(("gateway" = String, Path), ("upload" = u64, Path)), extensions(("x-role" = json!("engineer"))),
    responses((status = 200, body = UploadView), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 413, body = ProblemDetails)))]
pub(crate) async fn parts(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, upload)): Path<(String, u64)>,
    Json(UploadParts { parts }): Json<UploadParts>,
) -> Result<Json<UploadView>, ApiError> {
    let of = Of { person: &author.person, gateway: &gateway, number: upload };
    let mut bytes = app.uploads.bytes(of)?;
    for part in &parts {
        bytes = app.uploads.take(of, &part.path, part.at, &part.text)?;
    }
    Ok(Json(UploadView { upload, bytes }))
}

/// Puts what has come in the place of the whole draft.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/uploads/{upload}", operation_id = "end_upload", tag = "draft",
    request_body = UploadEnd, params(("gateway" = String, Path), ("upload" = u64, Path)), extensions(("x-role" = json!("engineer"))),
    responses((status = 200, body = CheckResult), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 413, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn end(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, upload)): Path<(String, u64)>,
    Json(UploadEnd { version }): Json<UploadEnd>,
) -> Result<Json<CheckResult>, ApiError> {
    // What was sent stays where it may be sent for again: whoever has to look at the draft anew need not upload anew.
    let record = app.store.gateway(&gateway).await?.ok_or_else(|| drafts::unknown(&gateway))?;
    if record.version != version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    let files = app.uploads.end(Of { person: &author.person, gateway: &gateway, number: upload })?;
    points_fit(&files)?;
    replaced(&app, &author, &gateway, &files, version).await
}

/// Gives an upload up.
#[utoipa::path(delete, path = "/api/v1/gateways/{gateway}/draft/uploads/{upload}", operation_id = "drop_upload", tag = "draft",
    params(("gateway" = String, Path), ("upload" = u64, Path)), extensions(("x-role" = json!("engineer"))), responses((status = 204),
    (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails)))]
pub(crate) async fn drop(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path((gateway, upload)): Path<(String, u64)>,
) -> Result<StatusCode, ApiError> {
    app.uploads.end(Of { person: &author.person, gateway: &gateway, number: upload })?;
    Ok(StatusCode::NO_CONTENT)
}
