//! Which of the ways that a server offers is taken.

use interlex_core::description::{OpcUaLink, OpcUaSecurity, SecretText};
use interlex_opcua::{
    Credentials, EndpointDescription, MessageSecurityMode, PrivateKey, SecurityPolicy, UnknownPolicy, UserIdentity,
    pem_blocks,
};

/// How a channel is secured.
pub(super) type Security = (MessageSecurityMode, SecurityPolicy);

const UA_TCP: &str = "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary";

/// The setting that asks for it.
pub(super) const fn word(security: Security) -> &'static str {
    use SecurityPolicy::{Aes128Sha256RsaOaep, Aes256Sha256RsaPss, Basic256Sha256};
    match security {
        (MessageSecurityMode::SignAndEncrypt, Aes256Sha256RsaPss) => "encrypt-aes256-sha256-rsapss",
        (MessageSecurityMode::SignAndEncrypt, Basic256Sha256) => "encrypt-basic256sha256",
        (MessageSecurityMode::SignAndEncrypt, Aes128Sha256RsaOaep) => "encrypt-aes128-sha256-rsaoaep",
        (MessageSecurityMode::Sign, Aes256Sha256RsaPss) => "sign-aes256-sha256-rsapss",
        (MessageSecurityMode::Sign, Basic256Sha256) => "sign-basic256sha256",
        (MessageSecurityMode::Sign, Aes128Sha256RsaOaep) => "sign-aes128-sha256-rsaoaep",
        _ => "none",
    }
}

const fn wanted(setting: OpcUaSecurity) -> Option<Security> {
    let (encrypt, sign) = (MessageSecurityMode::SignAndEncrypt, MessageSecurityMode::Sign);
    Some(match setting {
        OpcUaSecurity::Auto => return None,
        OpcUaSecurity::EncryptAes256 => (encrypt, SecurityPolicy::Aes256Sha256RsaPss),
        OpcUaSecurity::EncryptBasic256 => (encrypt, SecurityPolicy::Basic256Sha256),
        OpcUaSecurity::EncryptAes128 => (encrypt, SecurityPolicy::Aes128Sha256RsaOaep),
        OpcUaSecurity::SignAes256 => (sign, SecurityPolicy::Aes256Sha256RsaPss),
        OpcUaSecurity::SignBasic256 => (sign, SecurityPolicy::Basic256Sha256),
        OpcUaSecurity::SignAes128 => (sign, SecurityPolicy::Aes128Sha256RsaOaep),
        OpcUaSecurity::None => (MessageSecurityMode::None, SecurityPolicy::None),
    })
}

/// How good it is: encrypting before signing alone, then the policy.
fn rank((mode, policy): Security) -> (i32, SecurityPolicy) {
    (mode as i32, policy)
}

/// How an endpoint is secured.
///
/// # Errors
/// In a way that is not spoken.
pub(super) fn security(endpoint: &EndpointDescription) -> Result<Security, UnknownPolicy> {
    let policy = SecurityPolicy::from_uri(endpoint.security_policy_uri.as_deref().unwrap_or_default())?;
    Ok((endpoint.security_mode, policy))
}

/// What a server offers, in the words of the setting; policies that are not spoken by their names.
pub(super) fn offered(endpoints: &[EndpointDescription]) -> Vec<String> {
    let words = endpoints.iter().filter(|endpoint| is_ours(endpoint)).map(|endpoint| match security(endpoint) {
        Ok(security) => word(security).to_owned(),
        Err(unknown) => unknown.to_string(),
    });
    let mut all: Vec<_> = words.collect();
    all.sort();
    all.dedup();
    all
}

pub(super) fn is_ours(endpoint: &EndpointDescription) -> bool {
    endpoint.transport_profile_uri.as_deref().is_none_or(|profile| profile.is_empty() || profile == UA_TCP)
}

/// The endpoint that a link takes; it is no weaker than what was agreed before.
pub(super) fn choose(
    endpoints: &[EndpointDescription],
    setting: OpcUaSecurity,
    agreed: Option<Security>,
) -> Result<(Security, &EndpointDescription), String> {
    let known = endpoints.iter().filter(|endpoint| is_ours(endpoint));
    let known = known.filter_map(|endpoint| Some((security(endpoint).ok()?, endpoint)));
    let known = known.filter(|((mode, policy), _)| {
        (*mode == MessageSecurityMode::None) == (*policy == SecurityPolicy::None) && *mode as i32 > 0
    });
    let offers = || {
        let words = offered(endpoints);
        if words.is_empty() { "nothing that is spoken here".to_owned() } else { words.join(", ") }
    };
    match wanted(setting) {
        Some(wanted) => {
            let mut known = known;
            let found = known.find(|(security, _)| *security == wanted);
            found.ok_or_else(|| format!("the server does not offer {}; it offers {}", word(wanted), offers()))
        }
        None => {
            let secure = known.filter(|((mode, _), _)| *mode != MessageSecurityMode::None);
            let best = secure.max_by_key(|(security, _)| rank(*security));
            let found = best.ok_or_else(|| {
                format!("the server offers {}; security = \"auto\" takes nothing without security", offers())
            })?;
            match agreed.filter(|agreed| rank(*agreed) > rank(found.0)) {
                Some(agreed) => Err(format!(
                    "the server offers {} now, where {} was agreed before: somebody may be between; if the server was \
                     changed, set security to what it offers",
                    offers(),
                    word(agreed)
                )),
                None => Ok(found),
            }
        }
    }
}

/// Who signs in.
pub(super) fn user(link: &OpcUaLink) -> Result<UserIdentity, String> {
    if let (Some(certificate), Some(key)) = (&link.user_certificate, &link.user_key) {
        let certificate = pem_blocks(certificate, "CERTIFICATE").filter(|blocks| !blocks.is_empty());
        let certificate = certificate.ok_or("user-certificate is no certificate in PEM")?.concat();
        let key = PrivateKey::from_pem(key.reveal()).map_err(|_| "user-key is no key in PKCS #8, as PEM")?;
        return Ok(UserIdentity::Certificate(Box::new(Credentials { certificate, key })));
    }
    Ok(match &link.user {
        None => UserIdentity::Anonymous,
        Some(user) => UserIdentity::Password {
            user: user.clone(),
            password: link.password.as_ref().map(SecretText::reveal).unwrap_or_default().to_owned(),
            allow_clear: link.password_in_clear,
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn endpoint(mode: MessageSecurityMode, policy: &str) -> EndpointDescription {
        let uri = format!("http://opcfoundation.org/UA/SecurityPolicy#{policy}");
        EndpointDescription { security_mode: mode, security_policy_uri: Some(uri), ..EndpointDescription::default() }
    }

    #[test]
    fn the_best_of_what_both_sides_speak_is_taken_and_never_less_than_before() {
        let (none, sign, encrypt) =
            (MessageSecurityMode::None, MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt);
        let all = [
            endpoint(none, "None"),
            endpoint(sign, "Aes256_Sha256_RsaPss"),
            endpoint(encrypt, "Basic256"),
            endpoint(encrypt, "Basic256Sha256"),
            endpoint(encrypt, "Aes128_Sha256_RsaOaep"),
        ];
        let chosen = |endpoints: &[EndpointDescription], setting, agreed| {
            choose(endpoints, setting, agreed).map(|(security, _)| word(security))
        };
        assert_eq!(chosen(&all, OpcUaSecurity::Auto, None), Ok("encrypt-basic256sha256"));
        assert_eq!(chosen(&all, OpcUaSecurity::SignAes256, None), Ok("sign-aes256-sha256-rsapss"));
        assert_eq!(chosen(&all, OpcUaSecurity::None, None), Ok("none"));
        let told = chosen(&all, OpcUaSecurity::EncryptAes256, None).unwrap_err();
        assert!(told.contains("does not offer encrypt-aes256-sha256-rsapss; it offers Basic256 is too old"), "{told}");
        assert!(chosen(&all[..1], OpcUaSecurity::Auto, None).unwrap_err().contains("the server offers none"));
        let agreed = Some((encrypt, SecurityPolicy::Basic256Sha256));
        assert_eq!(chosen(&all, OpcUaSecurity::Auto, agreed), Ok("encrypt-basic256sha256"));
        let told = chosen(&all[..2], OpcUaSecurity::Auto, agreed).unwrap_err();
        assert!(told.contains("where encrypt-basic256sha256 was agreed before"), "{told}");
        // What contradicts itself is no offer.
        let odd = [endpoint(none, "Basic256Sha256"), endpoint(encrypt, "None")];
        assert!(chosen(&odd, OpcUaSecurity::None, None).is_err() && chosen(&odd, OpcUaSecurity::Auto, None).is_err());
    }
}
