use crate::access::auth::Viewer;
use crate::api::extract::{Json, Path};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;

/// What is in view.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct InView {
    /// The points, each as `GATEWAY/DEVICE/POINT`; 1000 at the most. Those that there are not are passed over.
    points: Vec<String>,
}

const MOST_IN_VIEW: usize = 1000;

/// Says which points a live stream tells that was opened with `view=true`: those that its viewer has before the eyes. The values
/// of all of them come next, then those that change.
#[utoipa::path(put, path = "/api/v1/live/{stream}", operation_id = "look_at", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(("stream" = u64, Path, description = "Its number, as its first event tells")), request_body = InView, responses((status = 204),
    (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn look(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Path(stream): Path<String>,
    Json(InView { points }): Json<InView>,
) -> Result<StatusCode, ApiError> {
    if points.len() > MOST_IN_VIEW {
        let count = points.len();
        return Err(ApiError::BadRequest(format!("points has {count} of them; expected {MOST_IN_VIEW} at the most")));
    }
    let number = stream.parse().ok();
    let is_known = number.is_some_and(|number| app.views.look(number, &who.name, points));
    is_known.then_some(StatusCode::NO_CONTENT).ok_or_else(|| ApiError::NotFound(format!("live stream {stream}")))
}
