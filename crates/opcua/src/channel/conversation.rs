//! What both sides of an open channel do with messages.

use super::assembler::{Assembled, Assembler};
use super::error::ChannelError;
use super::limits::TransportLimits;
use super::sequence::{Incoming, Outgoing};
use super::splitter::{SplitError, split};
use super::token::Tokens;
use crate::codec::{Binary, Limits, Reader};
use crate::security::{SecurityPolicy, open_symmetric};
use crate::service::MessageSecurityMode;
use crate::transport::{Frame, MessageType};
use std::time::Instant;

/// The numbers, the tokens and the halves of messages of a channel.
#[derive(Debug)]
pub(super) struct Conversation {
    pub(super) channel: u32,
    pub(super) policy: SecurityPolicy,
    pub(super) mode: MessageSecurityMode,
    pub(super) limits: TransportLimits,
    pub(super) tokens: Tokens,
    pub(super) outgoing: Outgoing,
    pub(super) incoming: Incoming,
    assembler: Assembler,
}

/// The frame header, the channel and the token.
const HEAD: usize = 16;

impl Conversation {
    pub(super) fn new(policy: SecurityPolicy, mode: MessageSecurityMode, limits: TransportLimits) -> Self {
        Self {
            channel: 0,
            policy,
            mode,
            limits,
            tokens: Tokens::default(),
            outgoing: Outgoing::default(),
            incoming: Incoming::default(),
            assembler: Assembler::default(),
        }
    }

    /// Appends a message.
    pub(super) fn send(
        &mut self,
        message: MessageType,
        request_id: u32,
        body: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), SplitError> {
        let Some(token) = &self.tokens.current else { return Err(SplitError::Security(crate::SecurityError)) };
        let numbers = (&mut self.outgoing, request_id);
        split(message, (self.channel, self.mode), token, numbers, (body, &self.limits), out)
    }

    /// Takes a frame; gives the message when that was the last one of it.
    pub(super) fn take(&mut self, frame: Frame, now: Instant) -> Result<Option<Assembled>, ChannelError> {
        let mut from = Reader::new(frame.body(), Limits::default());
        let (channel, token) = (u32::decode(&mut from)?, u32::decode(&mut from)?);
        if channel != self.channel {
            return Err(ChannelError::Channel { got: channel, own: self.channel });
        }
        let part = frame.chunk;
        let keys = &self.tokens.of(token, now)?.other;
        let chunk = open_symmetric(frame, HEAD, self.mode, keys)?;
        self.incoming.take(chunk.sequence_number)?;
        self.tokens.used(token);
        self.assembler.take(part, chunk, &self.limits)
    }
}
