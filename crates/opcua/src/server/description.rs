use crate::channel::Credentials;
use crate::security::SecurityPolicy;
use crate::service::{
    ApplicationDescription, ApplicationType, EndpointDescription, FindServersResponse, GetEndpointsResponse,
    MessageSecurityMode, UA_TCP, UserTokenPolicy, UserTokenType,
};
use crate::types::{ByteString, LocalizedText};
use std::time::Duration;

/// What a server is, and what it offers.
#[derive(Debug, Clone)]
pub struct ServerDescription {
    /// Its address.
    pub url: String,
    /// The URI of the program, as its certificate has it.
    pub application_uri: String,
    /// What people call it.
    pub application_name: String,
    /// Its certificate and key; needed with every policy but `None`.
    pub own: Option<Credentials>,
    /// Policies and modes, the strongest last.
    pub security: Vec<(SecurityPolicy, MessageSecurityMode)>,
    /// How users prove who they are: with what, and what secures their secrets; the channel, where it is not told.
    pub users: Vec<(UserTokenType, Option<SecurityPolicy>)>,
    /// The shortest and the longest that a silent session is kept.
    pub session_timeout: (Duration, Duration),
    /// So many sessions at a time.
    pub most_sessions: usize,
}

impl ServerDescription {
    /// The program.
    #[must_use]
    pub fn application(&self) -> ApplicationDescription {
        ApplicationDescription {
            application_uri: Some(self.application_uri.clone()),
            application_name: LocalizedText { locale: None, text: Some(self.application_name.clone()) },
            application_type: ApplicationType::Server,
            discovery_urls: vec![Some(self.url.clone())],
            ..ApplicationDescription::default()
        }
    }

    /// The ways to reach it.
    #[must_use]
    pub fn endpoints(&self) -> Vec<EndpointDescription> {
        let endpoint = |((policy, mode), level): (&(SecurityPolicy, MessageSecurityMode), u8)| EndpointDescription {
            endpoint_url: Some(self.url.clone()),
            server: self.application(),
            server_certificate: ByteString(self.own.as_ref().map(|own| own.certificate.clone())),
            security_mode: *mode,
            security_policy_uri: Some(policy.uri()),
            user_identity_tokens: self.token_policies(),
            transport_profile_uri: Some(UA_TCP.to_owned()),
            security_level: level,
        };
        self.security.iter().zip(0..).map(endpoint).collect()
    }

    fn token_policies(&self) -> Vec<UserTokenPolicy> {
        let policy = |(kind, policy): &(UserTokenType, Option<SecurityPolicy>)| UserTokenPolicy {
            policy_id: Some(policy_id(*kind, *policy)),
            token_type: *kind,
            security_policy_uri: policy.map(SecurityPolicy::uri),
            ..UserTokenPolicy::default()
        };
        self.users.iter().map(policy).collect()
    }

    /// How a user proves who they are, by the server's name for it; `None` for what is not offered.
    pub(super) fn token_policy(
        &self,
        id: Option<&str>,
        wanted: UserTokenType,
        channel: SecurityPolicy,
    ) -> Option<SecurityPolicy> {
        let of_kind = self.users.iter().filter(|(kind, _)| *kind == wanted);
        let mut named = of_kind.filter(|(kind, policy)| id == Some(policy_id(*kind, *policy).as_str()));
        named.next().map(|(_, policy)| policy.unwrap_or(channel))
    }

    /// Answers to whoever asks for servers.
    #[must_use]
    pub fn find_servers(&self) -> FindServersResponse {
        FindServersResponse { servers: vec![self.application()], ..FindServersResponse::default() }
    }

    /// Answers to whoever asks for endpoints.
    #[must_use]
    pub fn get_endpoints(&self) -> GetEndpointsResponse {
        GetEndpointsResponse { endpoints: self.endpoints(), ..GetEndpointsResponse::default() }
    }
}

fn policy_id(kind: UserTokenType, policy: Option<SecurityPolicy>) -> String {
    policy.map_or_else(|| format!("{kind:?}"), |policy| format!("{kind:?}-{policy}"))
}
