//! Whether the certificate of a server is believed.

use interlex_core::description::{AcceptedFault, Fingerprint, OpcUaLink};
use interlex_opcua::{
    CertificateDetails, CertificateFault, EndpointDescription, Expected, SecurityPolicy, TrustList,
    certificate_details, certificate_faults, leaf_certificate, pem_blocks,
};

/// All that speaks against a certificate, as far as nobody has accepted it.
pub(super) fn objections(
    link: &OpcUaLink,
    (chain, policy): (&[u8], SecurityPolicy),
    application_uri: Option<&str>,
    now: i64,
) -> Vec<CertificateFault> {
    let is_accepted = is_the_one(link, chain);
    let text = link.authorities.as_deref().unwrap_or_default();
    let mut trusted = pem_blocks(text, "CERTIFICATE").unwrap_or_default();
    if is_accepted {
        trusted.push(leaf_certificate(chain).to_vec());
    }
    let revocations = pem_blocks(text, "X509 CRL").unwrap_or_default();
    let trust = TrustList { trusted: &trusted, issuers: &[], revocations: &revocations };
    // A channel without security uses no key.
    let policy = if policy == SecurityPolicy::None { SecurityPolicy::Basic256Sha256 } else { policy };
    let expected = Expected { now, host: Some(link.url.bare_host()), application_uri, policy, is_server: true };
    let faults = certificate_faults(chain, &trust, &expected).into_iter();
    faults.filter(|fault| !is_waived(link, is_accepted, fault)).collect()
}

/// The URI that the certificate of a server has to have.
pub(super) fn application_uri<'a>(link: &'a OpcUaLink, endpoint: &'a EndpointDescription) -> Option<&'a str> {
    link.server_uri.as_deref().or(endpoint.server.application_uri.as_deref())
}

/// Whether it is the one that somebody has looked at.
fn is_the_one(link: &OpcUaLink, chain: &[u8]) -> bool {
    let shown = certificate_details(chain).map(|details| Fingerprint(details.fingerprint));
    link.server_certificate.is_some() && link.server_certificate == shown.ok()
}

fn is_waived(link: &OpcUaLink, is_accepted: bool, fault: &CertificateFault) -> bool {
    // What is accepted is one whole certificate with its faults, and not all certificates with them.
    is_accepted
        && match fault {
            CertificateFault::Untrusted | CertificateFault::IssuerUnknown(_) => true,
            other => accepted_as(other).is_some_and(|word| link.accept.has(word)),
        }
}

/// The word by which a fault may be accepted.
pub(super) const fn accepted_as(fault: &CertificateFault) -> Option<AcceptedFault> {
    match fault {
        CertificateFault::NotYetValid { .. } | CertificateFault::Expired { .. } => Some(AcceptedFault::Dates),
        CertificateFault::Host { .. } => Some(AcceptedFault::Host),
        CertificateFault::KeyUsage(_) => Some(AcceptedFault::KeyUsage),
        CertificateFault::RevocationUnknown(_) => Some(AcceptedFault::NoRevocationList),
        _ => None,
    }
}

/// Why a certificate is not believed, and what to do.
pub(super) fn refusal(link: &OpcUaLink, chain: &[u8], faults: &[CertificateFault]) -> String {
    let why: Vec<_> = faults.iter().map(ToString::to_string).collect();
    let who = certificate_details(chain).map_or_else(
        |_| "the certificate of the server".to_owned(),
        |CertificateDetails { subject, fingerprint, .. }| {
            format!("the certificate of the server, {subject}, SHA-256 {}", Fingerprint(fingerprint))
        },
    );
    let is_other = link.server_certificate.is_some() && !is_the_one(link, chain);
    let other = if is_other { "; it is another one than that of server-certificate" } else { "" };
    format!("{who}, is not trusted: {}{other}", why.join("; "))
}
