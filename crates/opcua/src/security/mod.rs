//! What keeps messages secret and proves who sent them.
//!
//! Source: OPC 10000-6, section 6.7; OPC 10000-7, the security policies.

mod asymmetric;
mod certificate;
mod chunk;
mod own;
mod pem;
mod policy;
mod symmetric;
mod trust;

pub use asymmetric::{PrivateKey, PublicKey};
pub use certificate::{
    CertificateDetails, CertificateError, Thumbprint, certificate_chain, certificate_details, leaf_certificate,
    public_key, thumbprint,
};
pub use chunk::{OpenedChunk, Sealing, open_asymmetric, open_symmetric, seal_asymmetric, seal_symmetric};
pub use own::{KEY_BITS, OwnCertificate};
pub use pem::{pem_blocks, to_pem};
pub use policy::{SecurityPolicy, UnknownPolicy};
#[cfg(test)]
pub(crate) use symmetric::p_sha256;
pub use symmetric::{DerivedKeys, derive_keys};
pub use trust::{CertificateFault, Expected, TrustList, certificate_faults};

/// A message that is not secured as it should be.
///
/// What exactly is wrong is not told: whoever sends it could learn from that.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the message is not secured as was agreed")]
pub struct SecurityError;
