use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use interlex_core::description::{ObjectRef, Problem};
use interlex_gateway::{FrameView, TrialError, WriteError};
use interlex_store::StoreError;
use serde::Serialize;

/// One error body for every failure, after RFC 9457 (problem details for HTTP APIs).
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct ProblemDetails {
    /// A stable code of what happened, as a relative URI.
    #[serde(rename = "type")]
    pub kind: &'static str,
    /// The same in words.
    pub title: &'static str,
    /// The HTTP status.
    pub status: u16,
    /// What exactly happened, and what would be right.
    pub detail: String,
    /// Every mistake, when a description was refused.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<Problem>,
    /// What was sent and received, when a device did not give what it was asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub frames: Vec<FrameView>,
    /// What stands there now, when an edit came too late.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub conflict: Option<Box<ConflictView>>,
}

/// An object that somebody else has changed.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct ConflictView {
    /// Which one.
    pub object: ObjectRef,
    /// What it is now; `null` when it is gone.
    pub content: serde_json::Value,
    /// The version to edit it from; empty when it is gone.
    pub version: String,
    /// Who changed it.
    pub changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    pub changed_at: i64,
    /// The fields that both have changed, where the edit said what it began with: all others fit together.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clashes: Vec<String>,
}

/// Why a request was not carried out.
#[derive(Debug, thiserror::Error)]
pub enum ApiError {
    /// Nobody is signed in.
    #[error("sign in first, or send a token")]
    NotSignedIn,
    /// The person may not do this.
    #[error("this needs the role {0} or more")]
    Forbidden(&'static str),
    /// The request comes from another site.
    #[error("requests that change something must come from the console itself")]
    OtherOrigin,
    /// Name and password, or the code, do not fit.
    #[error("{0}")]
    WrongCredentials(&'static str),
    /// Too many failed attempts.
    #[error("too many failed attempts; try again in {0} seconds")]
    TooManyAttempts(u64),
    /// Too many want the same at the same moment.
    #[error("too many are signing in at the same moment; try again in a few seconds")]
    Busy,
    /// Somebody has as many of something open as one may.
    #[error("{0}")]
    TooMany(String),
    /// There is no such thing.
    #[error("there is no {0}")]
    NotFound(String),
    /// The request makes no sense.
    #[error("{0}")]
    BadRequest(String),
    /// The request cannot be read as what it should be.
    #[error("{1}")]
    Rejected(StatusCode, String),
    /// The call exists, but not with this method.
    #[error("this call does not take that method")]
    Method,
    /// The description has mistakes.
    #[error("the description has {}", mistakes(.0))]
    Description(Vec<Problem>),
    /// It cannot be done in the present state.
    #[error("{0}")]
    Conflict(String),
    /// Somebody else has changed what was to be changed.
    #[error("{} has been changed by {} meanwhile", .0.object, .0.changed_by)]
    EditConflict(Box<ConflictView>),
    /// A trial brought nothing.
    #[error("{0}")]
    Trial(TrialError),
    /// A value was sent, and nobody knows what the device did.
    #[error("{why}; it may have been carried out")]
    OutcomeUnknown {
        /// What came instead of an answer.
        why: String,
        /// The frames sent and received.
        frames: Vec<FrameView>,
    },
    /// A value cannot be written; nothing was sent.
    #[error("{0}")]
    Value(String),
    /// The database is away, and who asks was not seen lately: nobody can say whether they may.
    #[error("the database is away; who signed in lately can go on looking, all others once it is back")]
    Away,
    /// The audit trail has to know of every write, and cannot.
    #[error("the audit trail is required, and its database is away: nothing is written until it is back")]
    AuditAway,
    /// The database is away.
    #[error("{0}")]
    Store(#[from] StoreError),
    /// The broker is away.
    #[error("{0}")]
    Broker(String),
    /// Something failed here.
    #[error("{0}")]
    Internal(String),
}

impl ApiError {
    /// Something that should not fail did.
    pub(crate) fn internal(error: impl std::fmt::Display) -> Self {
        Self::Internal(error.to_string())
    }

    const fn class(&self) -> (StatusCode, &'static str, &'static str) {
        match self {
            Self::NotSignedIn => (StatusCode::UNAUTHORIZED, "not-signed-in", "Not signed in"),
            Self::Forbidden(_) => (StatusCode::FORBIDDEN, "forbidden", "Not allowed"),
            Self::OtherOrigin => (StatusCode::FORBIDDEN, "other-origin", "Request from another site"),
            Self::WrongCredentials(_) => (StatusCode::UNAUTHORIZED, "wrong-credentials", "Wrong credentials"),
            Self::TooManyAttempts(_) => (StatusCode::TOO_MANY_REQUESTS, "too-many-attempts", "Too many attempts"),
            Self::Busy => (StatusCode::SERVICE_UNAVAILABLE, "busy", "Busy"),
            Self::TooMany(_) => (StatusCode::TOO_MANY_REQUESTS, "too-many", "Too many at a time"),
            Self::NotFound(_) => (StatusCode::NOT_FOUND, "not-found", "Not found"),
            Self::BadRequest(_) => (StatusCode::BAD_REQUEST, "bad-request", "Bad request"),
            Self::Rejected(status, _) => (*status, "cannot-be-read", "The request cannot be read"),
            Self::Method => (StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed"),
            Self::Description(_) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "description-has-mistakes", "The description has mistakes")
            }
            Self::Conflict(_) | Self::Store(StoreError::Exists(_)) => (StatusCode::CONFLICT, "conflict", "Conflict"),
            Self::EditConflict(_) => (StatusCode::CONFLICT, "edit-conflict", "Changed by somebody else"),
            Self::Trial(TrialError::Request(_)) => (StatusCode::BAD_REQUEST, "bad-request", "Bad request"),
            Self::OutcomeUnknown { .. } => (StatusCode::GATEWAY_TIMEOUT, "outcome-unknown", "Nobody knows"),
            Self::Trial(TrialError::Connect { .. } | TrialError::Lost { .. }) => {
                (StatusCode::BAD_GATEWAY, "not-reached", "Not reached")
            }
            Self::Trial(TrialError::Device { .. }) => {
                (StatusCode::BAD_GATEWAY, "device-refused", "The device did not give it")
            }
            Self::Value(_) => (StatusCode::UNPROCESSABLE_ENTITY, "value-refused", "The value cannot be written"),
            Self::Store(StoreError::TooLarge { .. }) => (StatusCode::PAYLOAD_TOO_LARGE, "too-large", "Too large"),
            Self::Away | Self::AuditAway | Self::Store(_) => {
                (StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away")
            }
            Self::Broker(_) => (StatusCode::BAD_GATEWAY, "broker-away", "The broker is away"),
            Self::Internal(_) => (StatusCode::INTERNAL_SERVER_ERROR, "internal", "Something failed here"),
        }
    }
}

impl From<WriteError> for ApiError {
    fn from(error: WriteError) -> Self {
        match error {
            WriteError::Refused(_) | WriteError::Value(_) => Self::Value(error.to_string()),
            WriteError::Trial(error) => Self::Trial(error),
            WriteError::Unknown { why, frames } => Self::OutcomeUnknown { why, frames },
        }
    }
}

fn mistakes(problems: &[Problem]) -> String {
    match problems.iter().filter(|problem| problem.is_mistake()).count() {
        1 => "a mistake".to_owned(),
        count => format!("{count} mistakes"),
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let (status, kind, title) = self.class();
        if status.is_server_error()
            && !matches!(self, Self::Trial(_) | Self::OutcomeUnknown { .. } | Self::Busy | Self::Away | Self::AuditAway)
        {
            tracing::error!(error = %self, "request failed");
        }
        let detail = self.to_string();
        let retry_after = match &self {
            Self::TooManyAttempts(seconds) => Some(HeaderValue::from(*seconds)),
            Self::Busy => Some(HeaderValue::from_static("2")),
            _ => None,
        };
        let mut body = ProblemDetails {
            kind,
            title,
            status: status.as_u16(),
            detail,
            problems: Vec::new(),
            frames: Vec::new(),
            conflict: None,
        };
        match self {
            Self::Description(problems) => body.problems = problems,
            Self::EditConflict(conflict) => body.conflict = Some(conflict),
            Self::Trial(TrialError::Device { frames, .. }) | Self::OutcomeUnknown { frames, .. } => {
                body.frames = frames
            }
            _ => {}
        }
        let mut response = (status, Json(body)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        headers.extend(retry_after.map(|seconds| (header::RETRY_AFTER, seconds)));
        response
    }
}
