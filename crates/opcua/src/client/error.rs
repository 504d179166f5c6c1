use super::endpoints::EndpointDifference;
use crate::channel::{ChannelError, NotSent};
use crate::security::SecurityError;
use crate::service::MessageError;
use crate::transport::ErrorMessage;
use crate::types::StatusCode;

/// Why there is no session.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum SessionError {
    /// The channel below it.
    #[error(transparent)]
    Channel(#[from] ChannelError),
    /// The server refuses something that leads to it.
    #[error("the server refuses {0}: {1}")]
    Refused(&'static str, StatusCode),
    /// A request that leads to it failed.
    #[error("{0}: {1}")]
    Request(&'static str, #[source] RequestError),
    /// The server answers something else than was asked.
    #[error("the server answers {0} with something else")]
    Answer(&'static str),
    /// The server does not prove that its certificate is its own.
    #[error("the server does not prove that its certificate is its own")]
    Signature,
    /// The server shows another certificate than its channel has.
    #[error("the session has another certificate than the channel")]
    Certificate,
    /// The server's nonce is too short, or an old one.
    #[error("the server's nonce is too short, or was used before")]
    Nonce,
    /// The server's endpoints are others than discovery told: somebody may have changed what it told.
    #[error("the endpoints are not those that discovery told ({0}): somebody between may have changed them")]
    Endpoints(EndpointDifference),
    /// The server takes no such user.
    #[error("the server takes {takes} at this endpoint, not {wanted}")]
    NoSuchUser {
        /// What was wanted.
        wanted: &'static str,
        /// What it takes.
        takes: String,
    },
    /// The password would go over the wire in the clear.
    #[error("the password would go to the server in the clear: choose an endpoint with encryption, or allow it")]
    PasswordInTheClear,
    /// What proves the user cannot be secured.
    #[error("what proves the user cannot be secured: {0}")]
    Identity(#[from] SecurityError),
}

/// Why a request has no answer.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum RequestError {
    /// The server answers that it failed as a whole.
    #[error("the server refuses it: {0}")]
    Fault(StatusCode),
    /// It was not sent.
    #[error(transparent)]
    NotSent(#[from] NotSent),
    /// No answer came in time.
    #[error("no answer came in time")]
    Timeout,
    /// The channel ended before its answer came: nobody knows whether it was carried out.
    #[error("the connection ended before the answer came")]
    Lost,
    /// The server gave its answer up.
    #[error("the server gave its answer up: {}", .0.error)]
    Aborted(ErrorMessage),
    /// The answer cannot be read.
    #[error("the answer cannot be read: {0}")]
    Unreadable(#[from] MessageError),
}

impl RequestError {
    /// Whether the session that it was asked in is at its end, or was not there: it may be asked for in the next one.
    #[must_use]
    pub fn is_of_session(&self) -> bool {
        matches!(self, Self::Lost | Self::NotSent(NotSent::Closed)) || self.session_refusal().is_some()
    }

    /// What the server says of the session, or of its channel, that it was asked in.
    pub(super) fn session_refusal(&self) -> Option<StatusCode> {
        match self {
            Self::Fault(status) => Some(*status).filter(|status| OF_SESSION.contains(&status.code())),
            _ => None,
        }
    }
}

/// What a server says when the session, or its channel, is none any more.
const OF_SESSION: [StatusCode; 5] = [
    StatusCode::BAD_SESSION_ID_INVALID,
    StatusCode::BAD_SESSION_CLOSED,
    StatusCode::BAD_SESSION_NOT_ACTIVATED,
    StatusCode::BAD_SECURE_CHANNEL_ID_INVALID,
    StatusCode::BAD_SECURE_CHANNEL_CLOSED,
];
