use super::{PrivateKey, SecurityError};
use crate::channel::Credentials;
use rcgen::{
    CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair, KeyUsagePurpose, PKCS_RSA_SHA256, SanType,
    SerialNumber,
};
use rsa::pkcs8::EncodePrivateKey;
use std::net::IpAddr;
use std::ops::RangeInclusive;
use time::OffsetDateTime;

/// What is to stand in the certificate of a program.
///
/// Source: OPC 10000-6, section 6.2.2.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnCertificate {
    /// The URI of the program.
    pub application_uri: String,
    /// What people call it.
    pub application_name: String,
    /// Whose it is.
    pub organization: String,
    /// The names and addresses of its machine.
    pub hosts: Vec<String>,
    /// From when and until when it is good, in seconds since 1970.
    pub validity: (i64, i64),
    /// So many bits its key has.
    pub bits: usize,
}

/// So many bits a key may have.
pub const KEY_BITS: RangeInclusive<usize> = 2048..=4096;

impl OwnCertificate {
    /// Makes a key, and a certificate that is signed with it. That takes a while.
    ///
    /// # Errors
    /// When a name or the time cannot stand in a certificate, the key is to have more or fewer bits than any policy takes, or there
    /// is no chance to be had.
    pub fn make(&self) -> Result<Credentials, SecurityError> {
        let key = PrivateKey::generate(self.bits)?;
        let certificate = self.sign(&key)?;
        Ok(Credentials { certificate, key })
    }

    /// A certificate for a key that is there.
    ///
    /// # Errors
    /// As [`OwnCertificate::make`].
    pub fn sign(&self, key: &PrivateKey) -> Result<Vec<u8>, SecurityError> {
        let der = key.0.to_pkcs8_der().map_err(|_| SecurityError)?;
        let signing = KeyPair::from_pkcs8_der_and_sign_algo(&der.as_bytes().into(), &PKCS_RSA_SHA256);
        let signing = signing.map_err(|_| SecurityError)?;
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, self.application_name.as_str());
        params.distinguished_name.push(DnType::OrganizationName, self.organization.as_str());
        let moment = |seconds| OffsetDateTime::from_unix_timestamp(seconds).map_err(|_| SecurityError);
        (params.not_before, params.not_after) = (moment(self.validity.0)?, moment(self.validity.1)?);
        let mut serial = [0; 16];
        getrandom::fill(&mut serial).map_err(|_| SecurityError)?;
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        let uri = self.application_uri.as_str().try_into().map_err(|_| SecurityError)?;
        params.subject_alt_names.push(SanType::URI(uri));
        for host in &self.hosts {
            params.subject_alt_names.push(match host.parse::<IpAddr>() {
                Ok(address) => SanType::IpAddress(address),
                Err(_) => SanType::DnsName(host.as_str().try_into().map_err(|_| SecurityError)?),
            });
        }
        // One that is signed with its own key signs no other.
        params.is_ca = IsCa::ExplicitNoCa;
        params.key_usages = vec![
            KeyUsagePurpose::DigitalSignature,
            KeyUsagePurpose::ContentCommitment,
            KeyUsagePurpose::KeyEncipherment,
            KeyUsagePurpose::DataEncipherment,
            KeyUsagePurpose::KeyCertSign,
        ];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth, ExtendedKeyUsagePurpose::ClientAuth];
        params.use_authority_key_identifier_extension = true;
        Ok(params.self_signed(&signing).map_err(|_| SecurityError)?.der().to_vec())
    }
}
