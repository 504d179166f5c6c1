//! Frames that open a channel.

use super::error::ChannelError;
use crate::codec::{Binary, Limits, Reader};
use crate::security::{
    OpenedChunk, PrivateKey, PublicKey, Sealing, SecurityError, SecurityPolicy, leaf_certificate, open_asymmetric,
    open_symmetric, public_key, seal_asymmetric, seal_symmetric, thumbprint,
};
use crate::service::MessageSecurityMode;
use crate::transport::{AsymmetricHeader, ChunkType, Frame, MessageType};
use crate::types::ByteString;

/// Who one is: a certificate, perhaps followed by those of its issuers, and its key.
#[derive(Debug, Clone)]
pub struct Credentials {
    /// The certificate.
    pub certificate: Vec<u8>,
    /// Its private key.
    pub key: PrivateKey,
}

/// A frame that opens a channel, before anybody has looked into it.
#[derive(Debug)]
pub(super) struct Opening {
    pub(super) channel: u32,
    pub(super) policy: SecurityPolicy,
    /// The certificate of who sends it.
    pub(super) certificate: Vec<u8>,
    thumbprint: Vec<u8>,
    head: usize,
    frame: Frame,
}

impl Opening {
    pub(super) fn read(frame: Frame) -> Result<Self, ChannelError> {
        if frame.chunk != ChunkType::Final {
            // Source: OPC 10000-6, section 6.7.4: they are never cut up.
            return Err(ChannelError::Unexpected("a part of an OpenSecureChannel message", "all of it"));
        }
        let mut from = Reader::new(frame.body(), Limits::default());
        let channel = u32::decode(&mut from)?;
        let header = AsymmetricHeader::decode(&mut from)?;
        let policy = SecurityPolicy::from_uri(header.security_policy_uri.as_deref().unwrap_or_default())?;
        let head = frame.bytes.len() - from.rest().len();
        let certificate = header.sender_certificate.as_bytes().to_vec();
        let thumbprint = header.receiver_certificate_thumbprint.as_bytes().to_vec();
        Ok(Self { channel, policy, certificate, thumbprint, head, frame })
    }

    /// Looks into it.
    pub(super) fn open(self, own: Option<&Credentials>) -> Result<OpenedChunk, ChannelError> {
        if self.policy == SecurityPolicy::None {
            let keys = crate::security::derive_keys(SecurityPolicy::None, &[], &[]);
            return Ok(open_symmetric(self.frame, self.head, MessageSecurityMode::None, &keys)?);
        }
        let own = own.ok_or(SecurityError)?;
        if self.thumbprint != thumbprint(&own.certificate) {
            return Err(ChannelError::OtherCertificate("the message is meant for another certificate than ours"));
        }
        let sender = public_key(&self.certificate)?;
        let (least, most) = self.policy.key_bits();
        if !(least..=most).contains(&sender.bits()) {
            return Err(ChannelError::OtherCertificate("the key of the other side is shorter or longer than allowed"));
        }
        Ok(open_asymmetric(&self.frame, self.head, self.policy, (&own.key, &sender))?)
    }

    /// Whether it was sent by who has this certificate.
    pub(super) fn is_from(&self, certificate: &[u8]) -> bool {
        leaf_certificate(&self.certificate) == leaf_certificate(certificate)
    }
}

/// Who a message that opens a channel is from, and for.
pub(super) struct Parties<'a> {
    pub(super) policy: SecurityPolicy,
    pub(super) own: Option<&'a Credentials>,
    /// The certificate of the other side.
    pub(super) other: &'a [u8],
}

/// Appends a frame that opens a channel.
pub(super) fn seal(
    channel: u32,
    parties: &Parties<'_>,
    (sequence_number, request_id): (u32, u32),
    body: &[u8],
    out: &mut Vec<u8>,
) -> Result<(), ChannelError> {
    let is_secure = parties.policy != SecurityPolicy::None;
    let own = parties.own.filter(|_| is_secure);
    let header = AsymmetricHeader {
        security_policy_uri: Some(parties.policy.uri()),
        sender_certificate: ByteString(own.map(|own| own.certificate.clone())),
        receiver_certificate_thumbprint: ByteString(is_secure.then(|| thumbprint(parties.other).to_vec())),
    };
    let mut head = channel.to_bytes();
    header.encode(&mut head);
    let (message, chunk) = (MessageType::OpenChannel, ChunkType::Final);
    let sealing = Sealing { message, chunk, head: &head, sequence_number, request_id, body };
    if is_secure {
        let own = own.ok_or(SecurityError)?;
        let other: PublicKey = public_key(parties.other)?;
        return Ok(seal_asymmetric(&sealing, parties.policy, (&own.key, &other), out)?);
    }
    let keys = crate::security::derive_keys(SecurityPolicy::None, &[], &[]);
    Ok(seal_symmetric(&sealing, MessageSecurityMode::None, &keys, out)?)
}

/// A side's part of new keys.
pub(super) fn nonce(policy: SecurityPolicy) -> Result<ByteString, ChannelError> {
    let mut bytes = vec![0; policy.nonce_length()];
    getrandom::fill(&mut bytes).map_err(|_| SecurityError)?;
    Ok(if bytes.is_empty() { ByteString(None) } else { bytes.into() })
}
