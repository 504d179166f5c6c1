use super::error::ChannelError;
use super::limits::TransportLimits;
use crate::codec::Binary;
use crate::security::OpenedChunk;
use crate::transport::{ChunkType, ErrorMessage};

/// Puts the parts of messages together.
#[derive(Debug, Default)]
pub(super) struct Assembler {
    request_id: Option<u32>,
    body: Vec<u8>,
    chunks: u32,
}

/// A message that is whole, or given up.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Assembled {
    /// All of it.
    Whole { request_id: u32, body: Vec<u8> },
    /// Whoever sent it gives it up.
    Aborted { request_id: u32, why: ErrorMessage },
}

impl Assembler {
    /// Takes a part; gives the message when that was the last one.
    pub(super) fn take(
        &mut self,
        part: ChunkType,
        chunk: OpenedChunk,
        limits: &TransportLimits,
    ) -> Result<Option<Assembled>, ChannelError> {
        let OpenedChunk { request_id, body, .. } = chunk;
        if let Some(expected) = self.request_id.filter(|expected| *expected != request_id) {
            return Err(ChannelError::Mixed { got: request_id, expected });
        }
        if part == ChunkType::Abort {
            *self = Self::default();
            let why = ErrorMessage::from_bytes(&body)?;
            return Ok(Some(Assembled::Aborted { request_id, why }));
        }
        self.request_id = Some(request_id);
        self.chunks += 1;
        let exceeds = |count: usize, most: u32| most != 0 && usize::try_from(most).is_ok_and(|most| count > most);
        if exceeds(self.body.len() + body.len(), limits.receive_message) {
            return Err(ChannelError::TooLarge("the size"));
        }
        if limits.receive_chunks != 0 && self.chunks > limits.receive_chunks {
            return Err(ChannelError::TooLarge("the number of parts"));
        }
        self.body.extend_from_slice(&body);
        if part == ChunkType::Intermediate {
            return Ok(None);
        }
        let body = std::mem::take(self).body;
        Ok(Some(Assembled::Whole { request_id, body }))
    }
}
