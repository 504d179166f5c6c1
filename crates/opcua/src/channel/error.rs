use crate::codec::DecodeError;
use crate::security::{CertificateError, SecurityError, UnknownPolicy};
use crate::service::MessageError;
use crate::transport::{ErrorMessage, FrameError};
use crate::types::StatusCode;

/// Why a channel is of no use any more.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum ChannelError {
    /// The other side closes the connection, and says why.
    #[error("the other side closes the connection: {}{}", .0.error, said(.0))]
    Told(ErrorMessage),
    /// No OPC UA.
    #[error(transparent)]
    Frame(#[from] FrameError),
    /// A message of the connection that cannot be read.
    #[error("a message cannot be read: {0}")]
    Malformed(#[from] DecodeError),
    /// A service that cannot be read.
    #[error("a message cannot be read: {0}")]
    Message(#[from] MessageError),
    /// Something came that may not come now.
    #[error("{0} came where {1} should")]
    Unexpected(&'static str, &'static str),
    /// The buffers, or the version, that the other side wants are not allowed.
    #[error("the other side wants limits that the standard does not allow")]
    Limits,
    /// A frame of another channel.
    #[error("a frame of channel {got} came over channel {own}")]
    Channel {
        /// That of the frame.
        got: u32,
        /// Ours.
        own: u32,
    },
    /// A token that was not given, or has ended.
    #[error("the token {0} was not given, or has ended")]
    Token(u32),
    /// A frame that was sent before, or one that is missing.
    #[error("frame {got} came where {expected} should")]
    Sequence {
        /// Its number.
        got: u32,
        /// The number that it should have.
        expected: u32,
    },
    /// The frames of two messages are mixed.
    #[error("a part of message {got} came where one of {expected} should")]
    Mixed {
        /// The message that it is of.
        got: u32,
        /// The one that was begun.
        expected: u32,
    },
    /// A message is larger than was agreed.
    #[error("a message of more than {0} was agreed not to come")]
    TooLarge(&'static str),
    /// It is not secured as was agreed.
    #[error(transparent)]
    Security(#[from] SecurityError),
    /// A policy that is not spoken.
    #[error(transparent)]
    Policy(#[from] UnknownPolicy),
    /// A certificate that is none.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// A certificate that is not the one that was meant.
    #[error("{0}")]
    OtherCertificate(&'static str),
    /// Nothing came in time.
    #[error("{0} did not come in time")]
    Timeout(&'static str),
    /// What was agreed of the keys is not what was asked for.
    #[error("{0}")]
    Agreement(&'static str),
}

fn said(told: &ErrorMessage) -> String {
    told.reason.as_ref().filter(|reason| !reason.is_empty()).map_or_else(String::new, |reason| format!(", {reason}"))
}

impl ChannelError {
    /// What a server says of it before it closes the connection.
    ///
    /// Source: OPC 10000-6, section 7.1.5 (table 58).
    #[must_use]
    pub const fn status(&self) -> StatusCode {
        match self {
            Self::Told(told) => told.error,
            Self::Frame(FrameError::TooLong { .. }) | Self::TooLarge(_) => StatusCode::BAD_TCP_MESSAGE_TOO_LARGE,
            Self::Frame(_) | Self::Unexpected(..) => StatusCode::BAD_TCP_MESSAGE_TYPE_INVALID,
            Self::Malformed(_) | Self::Message(_) => StatusCode::BAD_DECODING_ERROR,
            Self::Limits => StatusCode::BAD_CONNECTION_REJECTED,
            Self::Channel { .. } => StatusCode::BAD_TCP_SECURE_CHANNEL_UNKNOWN,
            Self::Token(_) => StatusCode::BAD_SECURE_CHANNEL_TOKEN_UNKNOWN,
            Self::Sequence { .. } => StatusCode::BAD_SEQUENCE_NUMBER_INVALID,
            Self::Mixed { .. } => StatusCode::BAD_TCP_INTERNAL_ERROR,
            Self::Security(_) | Self::Agreement(_) => StatusCode::BAD_SECURITY_CHECKS_FAILED,
            Self::Policy(_) => StatusCode::BAD_SECURITY_POLICY_REJECTED,
            Self::Certificate(_) | Self::OtherCertificate(_) => StatusCode::BAD_CERTIFICATE_INVALID,
            Self::Timeout(_) => StatusCode::BAD_TIMEOUT,
        }
    }
}
