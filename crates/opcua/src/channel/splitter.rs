use super::limits::TransportLimits;
use super::sequence::Outgoing;
use super::token::Token;
use crate::codec::Binary;
use crate::security::{Sealing, SecurityError, seal_symmetric};
use crate::service::MessageSecurityMode;
use crate::transport::{ChunkType, MessageType};

/// A message that the other side does not take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(super) enum SplitError {
    #[error("the message has {size} bytes, where the other side takes {most}")]
    Size { size: usize, most: usize },
    #[error("the message takes {chunks} frames, where the other side takes {most}")]
    Chunks { chunks: usize, most: usize },
    #[error(transparent)]
    Security(#[from] SecurityError),
}

/// What a frame has beside its part of the message: headers, and what secures it at the most.
const AROUND: usize = 8 + 8 + 8 + 1 + 32;
/// The block of the cipher: what is encrypted is a multiple of it.
const BLOCK: usize = 16;

/// Appends a message in as many frames as it takes.
pub(super) fn split(
    message: MessageType,
    (channel, mode): (u32, MessageSecurityMode),
    token: &Token,
    (numbers, request_id): (&mut Outgoing, u32),
    (body, limits): (&[u8], &TransportLimits),
    out: &mut Vec<u8>,
) -> Result<(), SplitError> {
    let limit = |most: u32| usize::try_from(most).ok().filter(|most| *most != 0);
    if let Some(most) = limit(limits.send_message).filter(|most| body.len() > *most) {
        return Err(SplitError::Size { size: body.len(), most });
    }
    let buffer = usize::try_from(limits.send_buffer).unwrap_or(usize::MAX);
    let part = (buffer.saturating_sub(16) / BLOCK * BLOCK).saturating_sub(AROUND - 16).max(1);
    let chunks = body.len().div_ceil(part).max(1);
    if let Some(most) = limit(limits.send_chunks).filter(|most| chunks > *most) {
        return Err(SplitError::Chunks { chunks, most });
    }
    let mut head = channel.to_bytes();
    token.id.encode(&mut head);
    for (place, body) in body.chunks(part).enumerate() {
        let chunk = if place + 1 == chunks { ChunkType::Final } else { ChunkType::Intermediate };
        let sequence_number = numbers.next();
        let sealing = Sealing { message, chunk, head: &head, sequence_number, request_id, body };
        seal_symmetric(&sealing, mode, &token.own, out)?;
    }
    Ok(())
}
