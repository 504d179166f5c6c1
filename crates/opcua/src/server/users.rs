use super::description::ServerDescription;
use crate::security::{SecurityPolicy, leaf_certificate, public_key};
use crate::service::{AnonymousIdentityToken, SignatureData, UserNameIdentityToken, UserTokenType, X509IdentityToken};
use crate::structure::Structure;
use crate::types::{ExtensionObject, StatusCode};
use std::fmt;

/// Who somebody is, once their proof was looked at.
#[derive(Clone, PartialEq, Eq)]
pub enum User {
    /// Nobody told.
    Anonymous,
    /// Somebody with a password, which is still to be looked at.
    Password {
        /// Their name.
        name: String,
        /// Their password.
        password: String,
    },
    /// Somebody who has the key of a certificate, which is still to be looked at.
    Certificate(Vec<u8>),
}

/// Passwords are not shown.
impl fmt::Debug for User {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Anonymous => f.write_str("Anonymous"),
            Self::Password { name, .. } => write!(f, "Password({name:?})"),
            Self::Certificate(_) => f.write_str("Certificate"),
        }
    }
}

/// Who knows the users.
pub trait Users {
    /// Whether somebody may come in.
    fn takes(&self, user: &User) -> bool;
}

/// Reads who somebody is from what they sent.
pub(super) fn read(
    description: &ServerDescription,
    channel: SecurityPolicy,
    token: &ExtensionObject,
    signature: &SignatureData,
    nonce: &[u8],
) -> Result<User, StatusCode> {
    let invalid = StatusCode::BAD_IDENTITY_TOKEN_INVALID;
    let policy = |id: Option<&str>, kind| description.token_policy(id, kind, channel).ok_or(invalid);
    if token.type_id.is_null() {
        return Ok(User::Anonymous);
    }
    if let Some(token) = AnonymousIdentityToken::from_object(token) {
        policy(token.map_err(|_| invalid)?.policy_id.as_deref(), UserTokenType::Anonymous)?;
        return Ok(User::Anonymous);
    }
    let own = description.own.as_ref();
    if let Some(token) = UserNameIdentityToken::from_object(token) {
        let token = token.map_err(|_| invalid)?;
        let policy = policy(token.policy_id.as_deref(), UserTokenType::UserName)?;
        let secret = token.password.as_bytes();
        let password = if policy == SecurityPolicy::None {
            secret.to_vec()
        } else {
            if token.encryption_algorithm.as_deref() != policy.encryption_uri() {
                return Err(invalid);
            }
            let plain = own.and_then(|own| own.key.decrypt(policy, secret).ok()).ok_or(invalid)?;
            without_nonce(&plain, nonce).ok_or(invalid)?.to_vec()
        };
        let password = String::from_utf8(password).map_err(|_| invalid)?;
        return Ok(User::Password { name: token.user_name.unwrap_or_default(), password });
    }
    if let Some(token) = X509IdentityToken::from_object(token) {
        let token = token.map_err(|_| invalid)?;
        let policy = policy(token.policy_id.as_deref(), UserTokenType::Certificate)?;
        let certificate = token.certificate_data.as_bytes();
        let server = own.map(|own| leaf_certificate(&own.certificate)).unwrap_or_default();
        let key = public_key(certificate).map_err(|_| invalid)?;
        let signed = [server, nonce].concat();
        let is_theirs = key.verify(policy, &signed, signature.signature.as_bytes()).is_ok();
        let refused = StatusCode::BAD_USER_SIGNATURE_INVALID;
        return is_theirs.then(|| User::Certificate(certificate.to_vec())).ok_or(refused);
    }
    Err(invalid)
}

/// A password that was encrypted with this nonce, and no other.
fn without_nonce<'a>(plain: &'a [u8], nonce: &[u8]) -> Option<&'a [u8]> {
    let (length, rest) = plain.split_first_chunk()?;
    let length = usize::try_from(u32::from_le_bytes(*length)).ok()?;
    // What follows is padding.
    rest.get(..length)?.strip_suffix(nonce)
}
