//! Extractors that refuse with problem details, as every other failure is told.

use crate::ApiError;
use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::{StatusCode, header};
use serde::de::DeserializeOwned;
use std::time::Duration;
use tokio::time::timeout;

/// A description of fifty thousand points takes about five megabytes.
pub(crate) const LARGE_BODY: usize = 16 << 20;
/// Everything else that is sent is a form at the most.
pub(crate) const SMALL_BODY: usize = 256 << 10;

/// A JSON body, that has to come within some time.
#[derive(Debug)]
pub(crate) struct Json<T>(pub(crate) T);

/// A few megabytes over a slow line.
pub(crate) const BODY: Duration = Duration::from_secs(30);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Json<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let length = request.headers().get(header::CONTENT_LENGTH).and_then(|text| text.to_str().ok()?.parse().ok());
        let read = timeout(BODY, axum::Json::from_request(request, state)).await;
        match read
            .map_err(|_| ApiError::Rejected(StatusCode::REQUEST_TIMEOUT, "the body did not come in time".into()))?
        {
            Ok(axum::Json(body)) => Ok(Self(body)),
            Err(rejection) if rejection.status() == StatusCode::PAYLOAD_TOO_LARGE => Err(too_large(length)),
            Err(rejection) => Err(rejection.into()),
        }
    }
}

pub(crate) fn too_large(length: Option<usize>) -> ApiError {
    let (limit, size) = (LARGE_BODY >> 20, length.map_or(0, |length| length.div_ceil(1 << 20)));
    let size = if size > limit { format!("it has {size} MB") } else { "it is too large for this call".to_owned() };
    let told = format!("{size}; descriptions may have {limit} MB, everything else 256 kB: send less at a time");
    ApiError::Rejected(StatusCode::PAYLOAD_TOO_LARGE, told)
}

/// The query of the URL.
#[derive(Debug, FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(ApiError))]
pub(crate) struct Query<T>(pub(crate) T);

/// The parts of the path.
#[derive(Debug, FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(ApiError))]
pub(crate) struct Path<T>(pub(crate) T);

impl<T: serde::Serialize> axum::response::IntoResponse for Json<T> {
    fn into_response(self) -> axum::response::Response {
        axum::Json(self.0).into_response()
    }
}

impl From<JsonRejection> for ApiError {
    fn from(rejection: JsonRejection) -> Self {
        Self::Rejected(rejection.status(), rejection.body_text())
    }
}

impl From<QueryRejection> for ApiError {
    fn from(rejection: QueryRejection) -> Self {
        Self::Rejected(rejection.status(), rejection.body_text())
    }
}

impl From<PathRejection> for ApiError {
    fn from(rejection: PathRejection) -> Self {
        Self::Rejected(rejection.status(), rejection.body_text())
    }
}
