use super::{SecurityError, SecurityPolicy};
use aes::{Aes128, Aes256};
use cbc::cipher::block_padding::NoPadding;
use cbc::cipher::{BlockModeDecrypt, BlockModeEncrypt, KeyIvInit};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use std::fmt;

/// The length of a signature over a message.
pub(super) const SIGNATURE: usize = 32;
/// The length of a block of AES.
pub(super) const BLOCK: usize = 16;

/// The keys of one direction of a channel.
///
/// Source: OPC 10000-6, section 6.7.5 (table 48).
#[derive(Clone, PartialEq, Eq)]
pub struct DerivedKeys {
    pub(crate) signing: Vec<u8>,
    pub(crate) encrypting: Vec<u8>,
    pub(crate) initialization_vector: [u8; BLOCK],
}

/// Keys are not shown.
impl fmt::Debug for DerivedKeys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("DerivedKeys").finish_non_exhaustive()
    }
}

/// P_SHA256: as many bytes as are wanted, from a secret and a seed.
///
/// Source: OPC 10000-6, section 6.7.5; RFC 5246, section 5.
pub(crate) fn p_sha256(secret: &[u8], seed: &[u8], length: usize) -> Vec<u8> {
    let hash = |parts: &[&[u8]]| sign(secret, parts);
    let (mut bytes, mut a) = (Vec::new(), seed.to_vec());
    while bytes.len() < length {
        a = hash(&[&a]).to_vec();
        bytes.extend_from_slice(&hash(&[&a, seed]));
    }
    bytes.truncate(length);
    bytes
}

/// The keys with which whoever made `seed` secures what it sends; `secret` is the nonce of the other side.
#[must_use]
pub fn derive_keys(policy: SecurityPolicy, secret: &[u8], seed: &[u8]) -> DerivedKeys {
    let (signing, encrypting) = policy.key_lengths();
    let bytes = p_sha256(secret, seed, signing + encrypting + BLOCK);
    let (signing, rest) = bytes.split_at_checked(signing).unwrap_or_default();
    let (encrypting, rest) = rest.split_at_checked(encrypting).unwrap_or_default();
    let initialization_vector = rest.try_into().unwrap_or_default();
    DerivedKeys { signing: signing.to_vec(), encrypting: encrypting.to_vec(), initialization_vector }
}

/// An HMAC-SHA256 over several pieces.
pub(super) fn sign(key: &[u8], parts: &[&[u8]]) -> [u8; SIGNATURE] {
    mac(key, parts).map_or([0; SIGNATURE], |mac| mac.finalize().into_bytes().into())
}

/// Whether a signature is that of some pieces; takes as long whatever is wrong.
pub(super) fn verify(key: &[u8], parts: &[&[u8]], signature: &[u8]) -> Result<(), SecurityError> {
    let mac = mac(key, parts).ok_or(SecurityError)?;
    mac.verify_slice(signature).map_err(|_| SecurityError)
}

/// A key of any length will do.
fn mac(key: &[u8], parts: &[&[u8]]) -> Option<Hmac<Sha256>> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).ok()?;
    parts.iter().for_each(|part| mac.update(part));
    Some(mac)
}

/// Encrypts whole blocks in their place.
pub(super) fn encrypt(keys: &DerivedKeys, bytes: &mut [u8]) -> Result<(), SecurityError> {
    let (key, iv, length) = (keys.encrypting.as_slice(), keys.initialization_vector.as_slice(), bytes.len());
    let done = match key.len() {
        16 => cbc::Encryptor::<Aes128>::new_from_slices(key, iv)
            .ok()
            .and_then(|cipher| cipher.encrypt_padded::<NoPadding>(bytes, length).ok().map(<[u8]>::len)),
        _ => cbc::Encryptor::<Aes256>::new_from_slices(key, iv)
            .ok()
            .and_then(|cipher| cipher.encrypt_padded::<NoPadding>(bytes, length).ok().map(<[u8]>::len)),
    };
    done.map(|_| ()).ok_or(SecurityError)
}

/// Decrypts whole blocks in their place.
pub(super) fn decrypt(keys: &DerivedKeys, bytes: &mut [u8]) -> Result<(), SecurityError> {
    let (key, iv) = (keys.encrypting.as_slice(), keys.initialization_vector.as_slice());
    let done = match key.len() {
        16 => cbc::Decryptor::<Aes128>::new_from_slices(key, iv)
            .ok()
            .and_then(|cipher| cipher.decrypt_padded::<NoPadding>(bytes).ok().map(<[u8]>::len)),
        _ => cbc::Decryptor::<Aes256>::new_from_slices(key, iv)
            .ok()
            .and_then(|cipher| cipher.decrypt_padded::<NoPadding>(bytes).ok().map(<[u8]>::len)),
    };
    done.map(|_| ()).ok_or(SecurityError)
}
