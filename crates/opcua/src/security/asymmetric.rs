use super::own::KEY_BITS;
use super::{SecurityError, SecurityPolicy};
use getrandom::SysRng;
use rsa::pkcs8::{DecodePrivateKey, EncodePrivateKey, LineEnding};
use rsa::traits::PublicKeyParts;
use sha1::Sha1;
use sha2::Sha256;
use std::fmt;

/// The public key of a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublicKey(pub(super) rsa::PublicKey);

/// A private key.
#[derive(Clone)]
pub struct PrivateKey(pub(super) rsa::PrivateKey);

/// Keys are not shown.
impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PrivateKey").finish_non_exhaustive()
    }
}

/// What padding takes of a block: OAEP over SHA-1, and over SHA-256.
const OAEP_SHA1: usize = 42;
const OAEP_SHA256: usize = 66;

impl PublicKey {
    /// How many bytes a block, or a signature, of it has.
    #[must_use]
    pub fn block(&self) -> usize {
        self.0.size()
    }

    /// How many bits it has.
    #[must_use]
    pub fn bits(&self) -> usize {
        usize::try_from(self.0.n().bit_width()).unwrap_or(usize::MAX)
    }

    /// How many bytes are encrypted in a block.
    pub(super) fn plain_block(&self, policy: SecurityPolicy) -> usize {
        let padding = match policy {
            SecurityPolicy::Aes256Sha256RsaPss => OAEP_SHA256,
            _ => OAEP_SHA1,
        };
        self.block().saturating_sub(padding).max(1)
    }

    /// Encrypts bytes, block by block.
    ///
    /// # Errors
    /// When there is no chance to be had, or no policy that encrypts.
    pub fn encrypt(&self, policy: SecurityPolicy, bytes: &[u8]) -> Result<Vec<u8>, SecurityError> {
        let mut out = Vec::with_capacity(bytes.len().div_ceil(self.plain_block(policy)) * self.block());
        for block in bytes.chunks(self.plain_block(policy)) {
            let encrypted = match policy {
                SecurityPolicy::None => return Err(SecurityError),
                SecurityPolicy::Aes256Sha256RsaPss => self.0.oaep_encrypt::<Sha256>(block),
                SecurityPolicy::Aes128Sha256RsaOaep | SecurityPolicy::Basic256Sha256 => {
                    self.0.oaep_encrypt::<Sha1>(block)
                }
            };
            out.extend_from_slice(&encrypted.map_err(|_| SecurityError)?);
        }
        Ok(out)
    }

    /// Whether a signature is that of the owner of the key.
    ///
    /// # Errors
    /// When it is not.
    pub fn verify(&self, policy: SecurityPolicy, bytes: &[u8], signature: &[u8]) -> Result<(), SecurityError> {
        let verified = match policy {
            SecurityPolicy::None => return Err(SecurityError),
            SecurityPolicy::Aes256Sha256RsaPss => self.0.pss_verify::<Sha256>(bytes, signature),
            SecurityPolicy::Aes128Sha256RsaOaep | SecurityPolicy::Basic256Sha256 => {
                self.0.pkcs1v15_verify::<Sha256>(bytes, signature)
            }
        };
        verified.map_err(|_| SecurityError)
    }
}

impl PrivateKey {
    /// Reads a key in PKCS #8, as PEM.
    ///
    /// # Errors
    /// When it is none. The text of the key is not told.
    pub fn from_pem(pem: &str) -> Result<Self, SecurityError> {
        rsa::PrivateKey::from_pkcs8_pem(pem).map(Self).map_err(|_| SecurityError)
    }

    /// Makes a new one.
    ///
    /// # Errors
    /// When it is to have more or fewer bits than any policy takes, or there is no chance to be had.
    pub fn generate(bits: usize) -> Result<Self, SecurityError> {
        if !KEY_BITS.contains(&bits) {
            return Err(SecurityError);
        }
        rsa::PrivateKey::new(&mut SysRng, bits).map(Self).map_err(|_| SecurityError)
    }

    /// The key in PKCS #8, as PEM: a secret.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn to_pem(&self) -> Result<String, SecurityError> {
        self.0.to_pkcs8_pem(LineEnding::LF).map(|pem| pem.to_string()).map_err(|_| SecurityError)
    }

    /// Its public part.
    #[must_use]
    pub fn public(&self) -> PublicKey {
        PublicKey(self.0.to_public_key())
    }

    /// Decrypts bytes, block by block.
    ///
    /// # Errors
    /// When they were not encrypted for it.
    pub fn decrypt(&self, policy: SecurityPolicy, bytes: &[u8]) -> Result<Vec<u8>, SecurityError> {
        let block = self.0.size();
        if bytes.is_empty() || !bytes.len().is_multiple_of(block) {
            return Err(SecurityError);
        }
        let mut out = Vec::with_capacity(bytes.len());
        for block in bytes.chunks(block) {
            let decrypted = match policy {
                SecurityPolicy::None => return Err(SecurityError),
                SecurityPolicy::Aes256Sha256RsaPss => self.0.oaep_decrypt::<Sha256>(block),
                SecurityPolicy::Aes128Sha256RsaOaep | SecurityPolicy::Basic256Sha256 => {
                    self.0.oaep_decrypt::<Sha1>(block)
                }
            };
            out.extend_from_slice(&decrypted.map_err(|_| SecurityError)?);
        }
        Ok(out)
    }

    /// Signs bytes.
    ///
    /// # Errors
    /// When there is no chance to be had, or no policy that signs.
    pub fn sign(&self, policy: SecurityPolicy, bytes: &[u8]) -> Result<Vec<u8>, SecurityError> {
        let signature = match policy {
            SecurityPolicy::None => return Err(SecurityError),
            SecurityPolicy::Aes256Sha256RsaPss => self.0.pss_sign::<Sha256>(bytes),
            SecurityPolicy::Aes128Sha256RsaOaep | SecurityPolicy::Basic256Sha256 => {
                self.0.pkcs1v15_sign::<Sha256>(bytes)
            }
        };
        signature.map_err(|_| SecurityError)
    }
}
