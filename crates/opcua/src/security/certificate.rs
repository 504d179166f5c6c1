use super::PublicKey;
use rsa::pkcs8::DecodePublicKey;
use sha1::{Digest, Sha1};
use x509_cert::Certificate;
use x509_cert::der::{Decode, Encode};

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

/// The first certificate of a chain, which is that of the program itself; its issuers follow it.
///
/// Source: OPC 10000-6, section 6.7.2.3.
#[must_use]
pub fn leaf(chain: &[u8]) -> &[u8] {
    let length = match chain {
        [0x30, 0x82, high, low, ..] => 4 + usize::from(u16::from_be_bytes([*high, *low])),
        [0x30, 0x81, length, ..] => 3 + usize::from(*length),
        [0x30, length, ..] if *length < 0x80 => 2 + usize::from(*length),
        _ => chain.len(),
    };
    chain.get(..length).unwrap_or(chain)
}

/// The thumbprint of the first certificate of a chain.
#[must_use]
pub fn thumbprint(chain: &[u8]) -> Thumbprint {
    Sha1::digest(leaf(chain)).into()
}

/// The key of the first certificate of a chain.
///
/// # Errors
/// When it is none, or has no RSA key.
pub fn public_key(chain: &[u8]) -> Result<PublicKey, CertificateError> {
    let certificate = Certificate::from_der(leaf(chain)).map_err(|_| CertificateError::Malformed)?;
    let key =
        certificate.tbs_certificate().subject_public_key_info().to_der().map_err(|_| CertificateError::Malformed)?;
    rsa::PublicKey::from_public_key_der(&key).map(PublicKey).map_err(|_| CertificateError::Key)
}
