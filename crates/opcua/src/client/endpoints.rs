use crate::service::{EndpointDescription, UA_TCP, UserTokenPolicy};
use std::fmt;

/// In what the endpoints of a session differ from those of discovery.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EndpointDifference {
    /// Discovery told one that the session does not.
    Missing(String),
    /// The session tells one that discovery did not.
    New(String),
}

impl fmt::Display for EndpointDifference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing(endpoint) => write!(f, "{endpoint} is missing"),
            Self::New(endpoint) => write!(f, "{endpoint} is new"),
        }
    }
}

/// What has to be the same of an endpoint: neither their order nor the host's name, which may be another one on each way.
type Compared<'a> = (Option<&'a str>, i32, Option<&'a str>, Vec<&'a UserTokenPolicy>, Option<&'a str>, u8);

fn compared(endpoint: &EndpointDescription) -> Compared<'_> {
    let mut tokens: Vec<_> = endpoint.user_identity_tokens.iter().collect();
    tokens.sort_by_key(|token| (&token.policy_id, token.token_type));
    (
        endpoint.server.application_uri.as_deref(),
        endpoint.security_mode as i32,
        endpoint.security_policy_uri.as_deref(),
        tokens,
        endpoint.transport_profile_uri.as_deref(),
        endpoint.security_level,
    )
}

fn words(endpoint: &EndpointDescription) -> String {
    let policy = endpoint.security_policy_uri.as_deref().unwrap_or_default();
    format!("{:?} with {}", endpoint.security_mode, policy.rsplit('#').next().unwrap_or(policy))
}

fn is_ours(endpoint: &&EndpointDescription) -> bool {
    endpoint.transport_profile_uri.as_deref().is_none_or(|profile| profile.is_empty() || profile == UA_TCP)
}

/// Whether a session tells the same endpoints as discovery did.
///
/// Source: OPC 10000-4, section 5.7.2.1: in those fields only, without order.
///
/// # Errors
/// In what they differ.
pub fn same_endpoints(
    discovered: &[EndpointDescription],
    session: &[EndpointDescription],
) -> Result<(), EndpointDifference> {
    let lacks = |all: &[EndpointDescription], one: &EndpointDescription| {
        !all.iter().any(|other| compared(other) == compared(one))
    };
    if let Some(missing) = discovered.iter().filter(is_ours).find(|one| lacks(session, one)) {
        return Err(EndpointDifference::Missing(words(missing)));
    }
    match session.iter().filter(is_ours).find(|one| lacks(discovered, one)) {
        Some(new) => Err(EndpointDifference::New(words(new))),
        None => Ok(()),
    }
}
