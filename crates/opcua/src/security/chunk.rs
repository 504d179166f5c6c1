//! Frames of a channel, secured.
//!
//! ```text
//! header · channel · security header · sequence header · body · padding · signature
//! └────────────────────────────────── signed ──────────────────────────┘
//!                                      └─────────── encrypted ──────────────────┘
//! ```
//!
//! Source: OPC 10000-6, sections 6.7.2 and 6.7.6.

use super::symmetric::{self, BLOCK, DerivedKeys, SIGNATURE};
use super::{PrivateKey, PublicKey, SecurityError, SecurityPolicy};
use crate::codec::{Binary, DecodeError, Limits, Reader};
use crate::service::MessageSecurityMode;
use crate::transport::{ChunkType, Frame, MessageType, SequenceHeader, begin_frame};

/// What a frame of a channel holds, once it is opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenedChunk {
    /// The number of the frame.
    pub sequence_number: u32,
    /// The request that it belongs to, or answers.
    pub request_id: u32,
    /// Its part of the message.
    pub body: Vec<u8>,
}

/// A frame that is to be secured.
#[derive(Debug, Clone, Copy)]
pub struct Sealing<'a> {
    /// What it is.
    pub message: MessageType,
    /// Which part.
    pub chunk: ChunkType,
    /// What stands before the part that is encrypted: the channel, and what it is secured with.
    pub head: &'a [u8],
    /// Its number.
    pub sequence_number: u32,
    /// The request that it belongs to, or answers.
    pub request_id: u32,
    /// Its part of the message.
    pub body: &'a [u8],
}

/// Keys of more bytes than this have padding whose length takes two bytes.
const LONG_KEY: usize = 256;

/// Secures a frame with the keys of a channel.
///
/// # Errors
/// When the keys are of no use.
pub fn seal_symmetric(
    frame: &Sealing<'_>,
    mode: MessageSecurityMode,
    keys: &DerivedKeys,
    out: &mut Vec<u8>,
) -> Result<(), SecurityError> {
    let signature = if mode == MessageSecurityMode::None { 0 } else { SIGNATURE };
    let block = if mode == MessageSecurityMode::SignAndEncrypt { Some(BLOCK) } else { None };
    let (at, plain) = begin(frame, block, false, signature, |length| length, out);
    if signature > 0 {
        let signed = out.get(at..).unwrap_or_default();
        let signature = symmetric::sign(&keys.signing, &[signed]);
        out.extend_from_slice(&signature);
    }
    match (block, out.get_mut(plain..)) {
        (Some(_), Some(bytes)) => symmetric::encrypt(keys, bytes),
        _ => Ok(()),
    }
}

/// Secures a frame that opens a channel: signed by who sends it, encrypted for who receives it.
///
/// # Errors
/// When a key is of no use.
pub fn seal_asymmetric(
    frame: &Sealing<'_>,
    policy: SecurityPolicy,
    (own, other): (&PrivateKey, &PublicKey),
    out: &mut Vec<u8>,
) -> Result<(), SecurityError> {
    let (signature, block) = (own.public().block(), other.plain_block(policy));
    let encrypted = |length: usize| length / block * other.block();
    let (at, plain) = begin(frame, Some(block), other.block() > LONG_KEY, signature, encrypted, out);
    let signature = own.sign(policy, out.get(at..).unwrap_or_default())?;
    out.extend_from_slice(&signature);
    let encrypted = other.encrypt(policy, out.get(plain..).unwrap_or_default())?;
    out.truncate(plain);
    out.extend_from_slice(&encrypted);
    Ok(())
}

/// Appends everything but the signature; gives where the frame begins, and the part of it that is encrypted.
fn begin(
    frame: &Sealing<'_>,
    block: Option<usize>,
    is_long: bool,
    signature: usize,
    encrypted: impl Fn(usize) -> usize,
    out: &mut Vec<u8>,
) -> (usize, usize) {
    let header = SequenceHeader { sequence_number: frame.sequence_number, request_id: frame.request_id }.to_bytes();
    let mut plain = [&header, frame.body].concat();
    if let Some(block) = block {
        let fixed = plain.len() + 1 + usize::from(is_long) + signature;
        let padding = fixed.next_multiple_of(block) - fixed;
        let [low, high, ..] = padding.to_le_bytes();
        plain.push(low);
        plain.resize(plain.len() + padding, low);
        if is_long {
            plain.push(high);
        }
    }
    let at = out.len();
    begin_frame(frame.message, frame.chunk, frame.head.len() + encrypted(plain.len() + signature), out);
    out.extend_from_slice(frame.head);
    let start = out.len();
    out.extend_from_slice(&plain);
    (at, start)
}

/// Opens a frame with the keys of a channel; `head` bytes of it are neither encrypted nor a part of the message.
///
/// # Errors
/// When it is not secured as it should be.
pub fn open_symmetric(
    frame: Frame,
    head: usize,
    mode: MessageSecurityMode,
    keys: &DerivedKeys,
) -> Result<OpenedChunk, SecurityError> {
    let mut bytes = frame.bytes;
    if mode == MessageSecurityMode::SignAndEncrypt {
        symmetric::decrypt(keys, bytes.get_mut(head..).ok_or(SecurityError)?)?;
    }
    if mode == MessageSecurityMode::None {
        return opened(bytes.get(head..).ok_or(SecurityError)?);
    }
    let (signed, signature) = bytes.split_last_chunk::<SIGNATURE>().ok_or(SecurityError)?;
    symmetric::verify(&keys.signing, &[signed], signature)?;
    let plain = signed.get(head..).ok_or(SecurityError)?;
    opened(if mode == MessageSecurityMode::SignAndEncrypt { without_padding(plain, false)? } else { plain })
}

/// Opens a frame that opens a channel.
///
/// # Errors
/// When it is not secured as it should be.
pub fn open_asymmetric(
    frame: &Frame,
    head: usize,
    policy: SecurityPolicy,
    (own, other): (&PrivateKey, &PublicKey),
) -> Result<OpenedChunk, SecurityError> {
    let (clear, encrypted) = frame.bytes.split_at_checked(head).ok_or(SecurityError)?;
    let bytes = [clear, &own.decrypt(policy, encrypted)?].concat();
    let end = bytes.len().checked_sub(other.block()).filter(|end| *end >= head).ok_or(SecurityError)?;
    let (signed, signature) = bytes.split_at_checked(end).ok_or(SecurityError)?;
    other.verify(policy, signed, signature)?;
    opened(without_padding(signed.get(head..).ok_or(SecurityError)?, own.public().block() > LONG_KEY)?)
}

/// What stands before the padding. It is signed: whoever could look for what is wrong with it has the keys.
fn without_padding(plain: &[u8], is_long: bool) -> Result<&[u8], SecurityError> {
    let (high, rest) = match plain.split_last() {
        Some((high, rest)) if is_long => (*high, rest),
        _ => (0, plain),
    };
    let low = *rest.last().ok_or(SecurityError)?;
    let padding = usize::from(u16::from_le_bytes([low, high]));
    // The byte that tells the length stands before the padding, and is the same.
    let at = rest.len().checked_sub(padding + 1).ok_or(SecurityError)?;
    let (body, padding) = rest.split_at_checked(at).ok_or(SecurityError)?;
    if padding.iter().any(|byte| *byte != low) {
        return Err(SecurityError);
    }
    Ok(body)
}

fn opened(plain: &[u8]) -> Result<OpenedChunk, SecurityError> {
    let mut from = Reader::new(plain, Limits::default());
    let header: Result<_, DecodeError> = SequenceHeader::decode(&mut from);
    let SequenceHeader { sequence_number, request_id } = header.map_err(|_| SecurityError)?;
    Ok(OpenedChunk { sequence_number, request_id, body: from.rest().to_vec() })
}
