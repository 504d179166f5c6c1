//! The points of a device in forms that programs of others read.

use crate::access::auth::Viewer;
use crate::api::extract::Path;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use interlex_gateway::ede_list;
use serde::Deserialize;
use std::sync::Arc;

/// A file of an EDE list.
#[derive(Debug, Clone, Copy, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum EdeFile {
    /// The data points.
    Points,
    /// The words for states that they refer to.
    States,
}

/// The points of a BACnet device that runs, as an EDE list: the data points, or the words for states that they refer to.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/devices/{device}/ede/{file}", operation_id = "device_ede", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("device" = String, Path), ("file" = inline(EdeFile), Path)),
    responses((status = 200, content_type = "text/csv"), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn ede(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, device, file)): Path<(String, String, EdeFile)>,
) -> Result<impl IntoResponse, ApiError> {
    let unknown = || ApiError::NotFound(format!("running device {gateway}/{device} of BACnet"));
    let running = app.gateway(&gateway).map(|gateway| gateway.running()).ok_or_else(unknown)?;
    let description = running.description();
    let known = description.devices.iter().find(|known| known.settings.name.as_str() == device).ok_or_else(unknown)?;
    let list = ede_list(&description.gateway.title, known).ok_or_else(unknown)?;
    let (text, name) = match file {
        EdeFile::Points => (list.points, format!("{device}_EDE.csv")),
        EdeFile::States => (list.states, format!("{device}_StateTexts.csv")),
    };
    let headers = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8".to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
    ];
    // Spreadsheets take it for another character set without this mark.
    Ok((headers, format!("\u{feff}{text}")))
}
