//! Whether a certificate may be believed.
//!
//! Source: OPC 10000-4, section 6.1.3 (table 100).

use super::certificate::{Certificate, Names, certificate_chain, key_of, read, seconds, value};
use super::{PublicKey, SecurityPolicy};
use rsa::pkcs8::ObjectIdentifier;
use sha1::Sha1;
use sha2::{Sha256, Sha384, Sha512};
use x509_cert::certificate::Raw;
use x509_cert::crl::CertificateList;
use x509_cert::der::Decode;
use x509_cert::ext::pkix::{BasicConstraints, ExtendedKeyUsage, KeyUsage};

/// What is believed.
#[derive(Debug, Clone, Copy, Default)]
pub struct TrustList<'a> {
    /// Certificates that somebody has accepted: of programs, or of issuers.
    pub trusted: &'a [Vec<u8>],
    /// Certificates of issuers that are not believed by themselves, but help to find one that is.
    pub issuers: &'a [Vec<u8>],
    /// What issuers took back.
    pub revocations: &'a [Vec<u8>],
}

/// What a certificate has to be.
#[derive(Debug, Clone, Copy)]
pub struct Expected<'a> {
    /// Seconds since 1970-01-01 00:00 UTC.
    pub now: i64,
    /// The host that was dialled; none where that does not matter.
    pub host: Option<&'a str>,
    /// The URI that the program tells of itself; none where it is not known yet.
    pub application_uri: Option<&'a str>,
    /// How it is used.
    pub policy: SecurityPolicy,
    /// Whether it is a server's, and not a client's.
    pub is_server: bool,
}

/// Why a certificate is not believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CertificateFault {
    /// It cannot be read.
    #[error("it cannot be read: these bytes are no certificate with an RSA key")]
    Malformed,
    /// It was not signed by who it says.
    #[error("its signature is wrong: it was changed, or made by somebody else than it says")]
    Signature,
    /// An issuer signs in a way that is not known here.
    #[error("it is signed in a way that is not known here")]
    UnknownSignature,
    /// Its key is too short or too long for the policy.
    #[error("its key has {bits} bits, where {policy} takes {least} to {most}: a new one has to be made at the device")]
    KeyLength {
        /// What it has.
        bits: usize,
        /// The policy.
        policy: SecurityPolicy,
        /// The least.
        least: usize,
        /// The most.
        most: usize,
    },
    /// Nobody here has accepted it, or any of its issuers.
    #[error(
        "nobody here has accepted it: compare its thumbprint with what the device shows, then take one of the endpoints that the link offers"
    )]
    Untrusted,
    /// The certificate of an issuer is missing.
    #[error("the certificate of its issuer {0} is missing: add it to the issuers")]
    IssuerUnknown(String),
    /// It does not hold yet.
    #[error("it holds only in {} days: look at the clocks of device and gateway", days(*.seconds))]
    NotYetValid {
        /// From so many seconds from now on.
        seconds: i64,
    },
    /// It does not hold any more.
    #[error("it ended {} days ago: a new one has to be made at the device", days(*.seconds))]
    Expired {
        /// So many seconds ago.
        seconds: i64,
    },
    /// It is not for this host.
    #[error("it is not for {wanted}, but for {}: use one of these in the address, or make a new one at the device", list(.has))]
    Host {
        /// The host that was dialled.
        wanted: String,
        /// The hosts that it is for.
        has: Vec<String>,
    },
    /// It is another program's.
    #[error("it is of {}, where the program says that it is {wanted}: it may be another one", list(.has))]
    Uri {
        /// What the program says.
        wanted: String,
        /// What the certificate says.
        has: Vec<String>,
    },
    /// It is not made for this use.
    #[error("it is not made for signing and encrypting messages of OPC UA: {0} is missing")]
    KeyUsage(&'static str),
    /// Nobody knows whether its issuer took it back.
    #[error("what its issuer {0} took back is not known: add the issuer's revocation list")]
    RevocationUnknown(String),
    /// Its issuer took it back.
    #[error("its issuer took it back: it must not be used any more")]
    Revoked,
}

fn days(seconds: i64) -> i64 {
    (seconds / 86_400).max(1)
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "none that it tells".to_owned() } else { names.join(", ") }
}

impl CertificateFault {
    /// Whether a person may accept it all the same.
    #[must_use]
    pub const fn may_be_accepted(&self) -> bool {
        match self {
            Self::Untrusted
            | Self::IssuerUnknown(_)
            | Self::NotYetValid { .. }
            | Self::Expired { .. }
            | Self::Host { .. }
            | Self::KeyUsage(_)
            | Self::RevocationUnknown(_) => true,
            Self::Malformed
            | Self::Signature
            | Self::UnknownSignature
            | Self::KeyLength { .. }
            | Self::Uri { .. }
            | Self::Revoked => false,
        }
    }
}

struct Known<'a> {
    bytes: &'a [u8],
    certificate: Certificate,
}

impl<'a> Known<'a> {
    fn read(bytes: &'a [u8]) -> Option<Self> {
        read(bytes).ok().map(|certificate| Self { bytes, certificate })
    }

    fn issuer(&self) -> String {
        self.certificate.tbs_certificate().issuer().to_string()
    }

    fn subject(&self) -> String {
        self.certificate.tbs_certificate().subject().to_string()
    }

    fn is_self_issued(&self) -> bool {
        self.issuer() == self.subject()
    }
}

/// How far issuers are followed.
const LONGEST_CHAIN: usize = 8;

/// All that is wrong with the first certificate of a chain; nothing, when it may be believed.
#[must_use]
pub fn certificate_faults(bytes: &[u8], trust: &TrustList<'_>, expected: &Expected<'_>) -> Vec<CertificateFault> {
    let mut given = certificate_chain(bytes);
    let Some(leaf) = given.next().and_then(Known::read) else { return vec![CertificateFault::Malformed] };
    let Ok(key) = key_of(&leaf.certificate) else { return vec![CertificateFault::Malformed] };
    let lists = trust.trusted.iter().chain(trust.issuers).flat_map(|bytes| certificate_chain(bytes));
    let others: Vec<_> = given.chain(lists).filter_map(Known::read).collect();
    let mut faults = Vec::new();
    let is_trusted =
        |known: &Known<'_>| trust.trusted.iter().any(|trusted| certificate_chain(trusted).next() == Some(known.bytes));
    let (mut trusted, mut current) = (is_trusted(&leaf), &leaf);
    check_times(current, expected.now, &mut faults);
    for _ in 0..LONGEST_CHAIN {
        let issuers = others.iter().filter(|issuer| issuer.subject() == current.issuer() && may_issue(issuer));
        let issuers = issuers.chain(current.is_self_issued().then_some(current));
        let signed: Vec<_> = issuers.map(|issuer| (issuer, is_signed(current.bytes, issuer))).collect();
        let Some((issuer, _)) = signed.iter().find(|(_, signed)| *signed == Ok(true)) else {
            faults.push(match signed.first() {
                None => CertificateFault::IssuerUnknown(current.issuer()),
                Some((_, Err(unknown))) => unknown.clone(),
                Some(_) => CertificateFault::Signature,
            });
            break;
        };
        if issuer.bytes == current.bytes {
            break;
        }
        faults.extend(revocation(current, issuer, trust));
        trusted |= is_trusted(issuer);
        check_times(issuer, expected.now, &mut faults);
        current = *issuer;
    }
    if !trusted {
        faults.push(CertificateFault::Untrusted);
    }
    check_leaf(&leaf, &key, expected, &mut faults);
    faults
}

fn check_leaf(leaf: &Known<'_>, key: &PublicKey, expected: &Expected<'_>, faults: &mut Vec<CertificateFault>) {
    let (bits, policy, (least, most)) = (key.bits(), expected.policy, expected.policy.key_bits());
    if !(least..=most).contains(&bits) {
        faults.push(CertificateFault::KeyLength { bits, policy, least, most });
    }
    let names = Names::of(&leaf.certificate);
    if let Some(wanted) = expected.host.filter(|wanted| !names.has_host(wanted)) {
        faults.push(CertificateFault::Host { wanted: wanted.to_owned(), has: names.hosts.clone() });
    }
    if let Some(wanted) = expected.application_uri.filter(|wanted| !names.uris.iter().any(|uri| uri == wanted)) {
        faults.push(CertificateFault::Uri { wanted: wanted.to_owned(), has: names.uris });
    }
    faults.extend(usage(&leaf.certificate, expected.is_server));
}

fn check_times(known: &Known<'_>, now: i64, faults: &mut Vec<CertificateFault>) {
    let validity = known.certificate.tbs_certificate().validity();
    let (from, to) = (seconds(validity.not_before), seconds(validity.not_after));
    if now < from {
        faults.push(CertificateFault::NotYetValid { seconds: from - now });
    } else if now > to {
        faults.push(CertificateFault::Expired { seconds: now - to });
    }
}

/// What is missing for the use of a program's certificate, where it tells what it is for.
///
/// Source: OPC 10000-6, section 6.2.2.
fn usage(certificate: &Certificate, is_server: bool) -> Option<CertificateFault> {
    let parts = certificate.tbs_certificate();
    if let Ok(Some((_, usage))) = parts.get_extension::<KeyUsage>() {
        if !usage.digital_signature() {
            return Some(CertificateFault::KeyUsage("digitalSignature"));
        }
        if !usage.key_encipherment() && !usage.data_encipherment() {
            return Some(CertificateFault::KeyUsage("dataEncipherment"));
        }
    }
    const SERVER: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.1");
    const CLIENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.2");
    let (wanted, name) = if is_server { (SERVER, "serverAuth") } else { (CLIENT, "clientAuth") };
    match parts.get_extension::<ExtendedKeyUsage>() {
        Ok(Some((_, ExtendedKeyUsage(uses)))) if !uses.contains(&wanted) => Some(CertificateFault::KeyUsage(name)),
        _ => None,
    }
}

/// Whether a certificate may sign others, where it tells.
fn may_issue(known: &Known<'_>) -> bool {
    let parts = known.certificate.tbs_certificate();
    let may_sign = match parts.get_extension::<KeyUsage>() {
        Ok(Some((_, usage))) => usage.key_cert_sign(),
        Ok(None) => true,
        Err(_) => false,
    };
    may_sign && matches!(parts.get_extension::<BasicConstraints>(), Ok(Some((_, constraints))) if constraints.ca)
}

/// Whether what is signed, a certificate or a revocation list, was signed by this issuer.
fn is_signed(signed: &[u8], issuer: &Known<'_>) -> Result<bool, CertificateFault> {
    let Some((content, signature, algorithm)) = parts(signed) else { return Ok(false) };
    let Ok(key) = key_of(&issuer.certificate) else { return Err(CertificateFault::UnknownSignature) };
    let verified = match algorithm.to_string().as_str() {
        "1.2.840.113549.1.1.5" => key.0.pkcs1v15_verify::<Sha1>(content, &signature),
        "1.2.840.113549.1.1.11" => key.0.pkcs1v15_verify::<Sha256>(content, &signature),
        "1.2.840.113549.1.1.12" => key.0.pkcs1v15_verify::<Sha384>(content, &signature),
        "1.2.840.113549.1.1.13" => key.0.pkcs1v15_verify::<Sha512>(content, &signature),
        _ => return Err(CertificateFault::UnknownSignature),
    };
    Ok(verified.is_ok())
}

/// What is signed, byte for byte as it came, with its signature and the algorithm.
fn parts(signed: &[u8]) -> Option<(&[u8], Vec<u8>, ObjectIdentifier)> {
    let (head, _) = value(signed)?;
    let inner = signed.get(head..)?;
    let content = inner.get(..value(inner)?.1)?;
    if let Ok(certificate) = Certificate::from_der(signed) {
        let signature = certificate.signature().as_bytes()?.to_vec();
        return Some((content, signature, certificate.signature_algorithm().oid));
    }
    let list = CertificateList::<Raw>::from_der(signed).ok()?;
    Some((content, list.signature.as_bytes()?.to_vec(), list.signature_algorithm.oid))
}

/// Whether an issuer took a certificate back, as far as that is known.
fn revocation(known: &Known<'_>, issuer: &Known<'_>, trust: &TrustList<'_>) -> Option<CertificateFault> {
    let lists = trust.revocations.iter().filter_map(|bytes| {
        let list = CertificateList::<Raw>::from_der(bytes).ok()?;
        let is_theirs = list.tbs_cert_list.issuer.to_string() == issuer.subject();
        (is_theirs && is_signed(bytes, issuer) == Ok(true)).then_some(list)
    });
    let lists: Vec<_> = lists.collect();
    if lists.is_empty() {
        return Some(CertificateFault::RevocationUnknown(issuer.subject()));
    }
    let serial = known.certificate.tbs_certificate().serial_number();
    let mut revoked = lists.iter().flat_map(|list| list.tbs_cert_list.revoked_certificates.iter().flatten());
    revoked.any(|revoked| revoked.serial_number == *serial).then_some(CertificateFault::Revoked)
}
