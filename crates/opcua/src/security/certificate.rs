use super::PublicKey;
use rsa::pkcs8::DecodePublicKey;
use sha1::{Digest, Sha1};
use sha2::Sha256;
use std::net::IpAddr;
use x509_cert::certificate::{CertificateInner, Raw};
use x509_cert::der::{Decode, Encode};
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::time::Time;

/// A certificate's SHA-1, by which messages name it.
pub type Thumbprint = [u8; 20];

/// Bytes that are no certificate, or one without a key that is spoken here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CertificateError {
    /// No certificate.
    #[error("these bytes are no certificate")]
    Malformed,
    /// A key other than RSA.
    #[error("the certificate has no RSA key")]
    Key,
}

/// A certificate, as far as others keep to the rules.
pub(super) type Certificate = CertificateInner<Raw>;

/// The certificates of a chain one by one: that of the program itself, then those of its issuers.
///
/// Source: OPC 10000-6, section 6.7.2.3.
pub fn certificate_chain(mut bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    std::iter::from_fn(move || {
        let length = value(bytes).map(|(_, length)| length)?;
        let (first, rest) = bytes.split_at_checked(length)?;
        bytes = rest;
        Some(first)
    })
}

/// The first certificate of a chain; all of the bytes, where they are no certificate.
#[must_use]
pub fn leaf_certificate(bytes: &[u8]) -> &[u8] {
    certificate_chain(bytes).next().unwrap_or(bytes)
}

/// Of a value in DER: how long its head is, and how long it is with it.
pub(super) fn value(bytes: &[u8]) -> Option<(usize, usize)> {
    let (head, length) = match bytes {
        [_, 0x83, a, b, c, ..] => (5, u32::from_be_bytes([0, *a, *b, *c])),
        [_, 0x82, high, low, ..] => (4, u16::from_be_bytes([*high, *low]).into()),
        [_, 0x81, length, ..] => (3, (*length).into()),
        [_, length, ..] if *length < 0x80 => (2, (*length).into()),
        _ => return None,
    };
    Some((head, head + usize::try_from(length).ok()?))
}

/// The thumbprint of the first certificate of a chain.
#[must_use]
pub fn thumbprint(chain: &[u8]) -> Thumbprint {
    Sha1::digest(leaf_certificate(chain)).into()
}

pub(super) fn read(certificate: &[u8]) -> Result<Certificate, CertificateError> {
    Certificate::from_der(certificate).map_err(|_| CertificateError::Malformed)
}

pub(super) fn key_of(certificate: &Certificate) -> Result<PublicKey, CertificateError> {
    let key = certificate.tbs_certificate().subject_public_key_info();
    let key = key.to_der().map_err(|_| CertificateError::Malformed)?;
    rsa::PublicKey::from_public_key_der(&key).map(PublicKey).map_err(|_| CertificateError::Key)
}

/// The key of the first certificate of a chain.
///
/// # Errors
/// When it is none, or has no RSA key.
pub fn public_key(chain: &[u8]) -> Result<PublicKey, CertificateError> {
    key_of(&read(leaf_certificate(chain))?)
}

/// Whom a certificate is for.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Names {
    /// The URI of the program.
    pub(super) uris: Vec<String>,
    /// Names and addresses of hosts.
    pub(super) hosts: Vec<String>,
}

impl Names {
    pub(super) fn of(certificate: &Certificate) -> Self {
        let names = certificate.tbs_certificate().get_extension::<SubjectAltName>().ok().flatten();
        let mut found = Self::default();
        for name in names.into_iter().flat_map(|(_, names)| names.0) {
            match name {
                GeneralName::UniformResourceIdentifier(uri) => found.uris.push(uri.to_string()),
                GeneralName::DnsName(host) => found.hosts.push(host.to_string()),
                GeneralName::IpAddress(bytes) => found.hosts.extend(address(bytes.as_bytes())),
                _ => {}
            }
        }
        found
    }

    pub(super) fn has_host(&self, wanted: &str) -> bool {
        let wanted = wanted.trim_start_matches('[').trim_end_matches(']');
        self.hosts.iter().any(|host| host.eq_ignore_ascii_case(wanted))
    }
}

/// What people compare of a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateDetails {
    /// Whose it is.
    pub subject: String,
    /// Who signed it.
    pub issuer: String,
    /// Its first and its last second, since 1970.
    pub validity: (i64, i64),
    /// The SHA-256 of all its bytes.
    pub fingerprint: [u8; 32],
    /// The SHA-1, by which messages name it.
    pub thumbprint: Thumbprint,
    /// The programs that it is for.
    pub uris: Vec<String>,
    /// The hosts that it is for.
    pub hosts: Vec<String>,
    /// So many bits its key has.
    pub bits: usize,
}

/// What people compare of the first certificate of a chain.
///
/// # Errors
/// When it is none, or has no RSA key.
pub fn certificate_details(chain: &[u8]) -> Result<CertificateDetails, CertificateError> {
    let bytes = leaf_certificate(chain);
    let certificate = read(bytes)?;
    let (parts, names) = (certificate.tbs_certificate(), Names::of(&certificate));
    let validity = parts.validity();
    Ok(CertificateDetails {
        subject: parts.subject().to_string(),
        issuer: parts.issuer().to_string(),
        validity: (seconds(validity.not_before), seconds(validity.not_after)),
        fingerprint: Sha256::digest(bytes).into(),
        thumbprint: thumbprint(bytes),
        uris: names.uris,
        hosts: names.hosts,
        bits: key_of(&certificate)?.bits(),
    })
}

/// Since 1970.
pub(super) fn seconds(time: Time) -> i64 {
    i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX)
}

fn address(bytes: &[u8]) -> Option<String> {
    let v4 = <[u8; 4]>::try_from(bytes).map(IpAddr::from);
    let address = v4.or_else(|_| <[u8; 16]>::try_from(bytes).map(IpAddr::from)).ok()?;
    Some(address.to_string())
}
