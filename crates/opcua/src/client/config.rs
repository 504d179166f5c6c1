use super::identity::UserIdentity;
use crate::channel::ClientChannelConfig;
use crate::service::EndpointDescription;
use std::time::Duration;

/// How a client keeps a session.
#[derive(Debug, Clone)]
pub struct ClientSessionConfig {
    /// How the channel below it is opened.
    pub channel: ClientChannelConfig,
    /// The URI of our own program, as our certificate has it.
    pub application_uri: String,
    /// What people call us.
    pub application_name: String,
    /// A name for the session, for people who look at the server.
    pub session_name: String,
    /// Who we are.
    pub user: UserIdentity,
    /// The endpoint that is used, as discovery told it: it tells how users prove who they are.
    pub endpoint: EndpointDescription,
    /// All endpoints, as discovery told them: the session's must be the same. None where nobody has asked.
    pub discovered: Option<Vec<EndpointDescription>>,
    /// So long the server keeps the session while we are away. A short one loses what subscriptions kept in an outage.
    pub session_timeout: Duration,
    /// So long an answer may take.
    pub request_timeout: Duration,
}
