use super::error::SessionError;
use crate::channel::Credentials;
use crate::security::{SecurityPolicy, leaf_certificate, public_key};
use crate::service::{
    AnonymousIdentityToken, EndpointDescription, MessageSecurityMode, SignatureData, UserNameIdentityToken,
    UserTokenPolicy, UserTokenType, X509IdentityToken,
};
use crate::structure::Structure;
use crate::types::{ByteString, ExtensionObject};
use std::fmt;

/// Who somebody is to a server.
#[derive(Clone)]
pub enum UserIdentity {
    /// Nobody.
    Anonymous,
    /// Somebody with a password.
    Password {
        /// Their name.
        user: String,
        /// Their password.
        password: String,
        /// Whether it may go over the wire in the clear, where the server wants that.
        allow_clear: bool,
    },
    /// Somebody with a certificate.
    Certificate(Box<Credentials>),
}

/// Secrets are not shown.
impl fmt::Debug for UserIdentity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.words())
    }
}

impl UserIdentity {
    const fn kind(&self) -> UserTokenType {
        match self {
            Self::Anonymous => UserTokenType::Anonymous,
            Self::Password { .. } => UserTokenType::UserName,
            Self::Certificate(_) => UserTokenType::Certificate,
        }
    }

    const fn words(&self) -> &'static str {
        words(self.kind())
    }

    /// What tells a server who it is, and what proves it.
    pub(super) fn token(
        &self,
        endpoint: &EndpointDescription,
        (channel, mode): (SecurityPolicy, MessageSecurityMode),
        (certificate, nonce): (&[u8], &[u8]),
    ) -> Result<(ExtensionObject, SignatureData), SessionError> {
        let policies = endpoint.user_identity_tokens.iter().filter(|policy| policy.token_type == self.kind());
        // The strongest that is spoken.
        let policies = policies.filter_map(|policy| Some((spoken(policy, channel)?, policy)));
        let Some((policy, told)) = policies.max_by_key(|(policy, _)| *policy) else {
            if matches!(self, Self::Anonymous) && endpoint.user_identity_tokens.is_empty() {
                return Ok((AnonymousIdentityToken::default().to_object(), SignatureData::default()));
            }
            let takes = endpoint.user_identity_tokens.iter().map(|policy| words(policy.token_type));
            let mut takes: Vec<_> = takes.collect();
            takes.dedup();
            let takes = if takes.is_empty() { "nobody".to_owned() } else { takes.join(" or ") };
            return Err(SessionError::NoSuchUser { wanted: self.words(), takes });
        };
        let policy_id = told.policy_id.clone();
        match self {
            Self::Anonymous => Ok((AnonymousIdentityToken { policy_id }.to_object(), SignatureData::default())),
            Self::Password { user, password, allow_clear } => {
                let is_clear = policy == SecurityPolicy::None;
                // A signed channel hides nothing, an encrypted one does.
                if is_clear && mode != MessageSecurityMode::SignAndEncrypt && !allow_clear {
                    return Err(SessionError::PasswordInTheClear);
                }
                let secret = if is_clear {
                    password.as_bytes().to_vec()
                } else {
                    public_key(certificate)
                        .map_err(crate::ChannelError::from)?
                        .encrypt(policy, &with_nonce(password, nonce))?
                };
                let token = UserNameIdentityToken {
                    policy_id,
                    user_name: Some(user.clone()),
                    password: secret.into(),
                    encryption_algorithm: policy.encryption_uri().map(str::to_owned),
                };
                Ok((token.to_object(), SignatureData::default()))
            }
            Self::Certificate(credentials) => {
                let certificate_data = ByteString(Some(leaf_certificate(&credentials.certificate).to_vec()));
                let signed = [leaf_certificate(certificate), nonce].concat();
                let signature = SignatureData {
                    algorithm: policy.signature_uri().map(str::to_owned),
                    signature: credentials.key.sign(policy, &signed)?.into(),
                };
                Ok((X509IdentityToken { policy_id, certificate_data }.to_object(), signature))
            }
        }
    }
}

const fn words(kind: UserTokenType) -> &'static str {
    match kind {
        UserTokenType::Anonymous => "anybody",
        UserTokenType::UserName => "a user with a password",
        UserTokenType::Certificate => "a user with a certificate",
        UserTokenType::IssuedToken => "a token that somebody else issues",
    }
}

/// How a secret of a policy is secured: as it says, else as the channel is.
///
/// Source: OPC 10000-4, section 7.42.
fn spoken(policy: &UserTokenPolicy, channel: SecurityPolicy) -> Option<SecurityPolicy> {
    match policy.security_policy_uri.as_deref().filter(|uri| !uri.is_empty()) {
        Some(uri) => SecurityPolicy::from_uri(uri).ok(),
        None => Some(channel),
    }
}

/// A password as it is encrypted: so that nobody can send it again.
///
/// Source: OPC 10000-4, section 7.41.2.2 (table 193).
fn with_nonce(password: &str, nonce: &[u8]) -> Vec<u8> {
    let length = u32::try_from(password.len() + nonce.len()).unwrap_or(u32::MAX);
    [&length.to_le_bytes(), password.as_bytes(), nonce].concat()
}
