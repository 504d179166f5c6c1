use std::fmt;

/// The algorithms that secure messages.
///
/// Source: OPC 10000-7, section 6.6 (SecurityPolicy facets).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SecurityPolicy {
    /// None.
    None,
    /// AES with 128 bits, RSA with OAEP.
    Aes128Sha256RsaOaep,
    /// AES with 256 bits, RSA with OAEP, signatures of PKCS #1 v1.5.
    Basic256Sha256,
    /// AES with 256 bits, RSA with OAEP over SHA-256, signatures of PSS.
    Aes256Sha256RsaPss,
}

/// A policy that is not spoken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum UnknownPolicy {
    /// One that was given up, since it can be broken.
    #[error("{0} is too old to be safe, and not spoken")]
    TooOld(&'static str),
    /// One that nobody here has heard of.
    #[error("{0:?} is no security policy that is known")]
    Unknown(String),
}

const BASE: &str = "http://opcfoundation.org/UA/SecurityPolicy#";

impl SecurityPolicy {
    /// All of them, the strongest last.
    pub const ALL: [Self; 4] = [Self::None, Self::Aes128Sha256RsaOaep, Self::Basic256Sha256, Self::Aes256Sha256RsaPss];

    /// Its name in the standard, as it ends its URI.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::None => "None",
            Self::Aes128Sha256RsaOaep => "Aes128_Sha256_RsaOaep",
            Self::Basic256Sha256 => "Basic256Sha256",
            Self::Aes256Sha256RsaPss => "Aes256_Sha256_RsaPss",
        }
    }

    /// Its URI.
    #[must_use]
    pub fn uri(self) -> String {
        format!("{BASE}{}", self.name())
    }

    /// The policy that a URI means.
    ///
    /// # Errors
    /// When it is not spoken.
    pub fn from_uri(uri: &str) -> Result<Self, UnknownPolicy> {
        let name = uri.strip_prefix(BASE).unwrap_or_default();
        if let Some(known) = Self::ALL.into_iter().find(|policy| policy.name() == name) {
            return Ok(known);
        }
        let old = ["Basic128Rsa15", "Basic256"].into_iter().find(|old| *old == name);
        Err(old.map_or_else(|| UnknownPolicy::Unknown(uri.to_owned()), UnknownPolicy::TooOld))
    }

    /// The URI of its signatures.
    #[must_use]
    pub const fn signature_uri(self) -> Option<&'static str> {
        match self {
            Self::None => None,
            Self::Aes128Sha256RsaOaep | Self::Basic256Sha256 => {
                Some("http://www.w3.org/2001/04/xmldsig-more#rsa-sha256")
            }
            Self::Aes256Sha256RsaPss => Some("http://opcfoundation.org/UA/security/rsa-pss-sha2-256"),
        }
    }

    /// The URI of what it encrypts secrets with.
    #[must_use]
    pub const fn encryption_uri(self) -> Option<&'static str> {
        match self {
            Self::None => None,
            Self::Aes128Sha256RsaOaep | Self::Basic256Sha256 => Some("http://www.w3.org/2001/04/xmlenc#rsa-oaep"),
            Self::Aes256Sha256RsaPss => Some("http://opcfoundation.org/UA/security/rsa-oaep-sha2-256"),
        }
    }

    /// How many bytes each side adds to the new keys of a channel.
    #[must_use]
    pub const fn nonce_length(self) -> usize {
        match self {
            Self::None => 0,
            _ => 32,
        }
    }

    /// How many bits a certificate's key may have: the least, and the most.
    #[must_use]
    pub const fn key_bits(self) -> (usize, usize) {
        (2048, 4096)
    }

    /// How many bytes the keys of a channel have: for signing, and for encrypting.
    pub(super) const fn key_lengths(self) -> (usize, usize) {
        match self {
            Self::None => (0, 0),
            Self::Aes128Sha256RsaOaep => (32, 16),
            Self::Basic256Sha256 | Self::Aes256Sha256RsaPss => (32, 32),
        }
    }
}

impl fmt::Display for SecurityPolicy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
