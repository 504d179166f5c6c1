use crate::transport::{Acknowledge, Hello};

/// What one side takes, and what is agreed with the other.
///
/// Source: OPC 10000-6, section 7.1.2.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TransportLimits {
    /// Bytes of a frame that is received. Less than 8192 is not allowed.
    pub receive_buffer: u32,
    /// Bytes of a frame that is sent.
    pub send_buffer: u32,
    /// Bytes of a message that is received, in all its frames; 0 for any.
    pub receive_message: u32,
    /// Frames of a message that is received; 0 for any.
    pub receive_chunks: u32,
    /// Bytes of a message that is sent; 0 for any.
    pub send_message: u32,
    /// Frames of a message that is sent; 0 for any.
    pub send_chunks: u32,
}

/// A frame can be so large at the least.
///
/// Source: OPC 10000-6, section 7.1.2.3.
pub(crate) const SMALLEST_BUFFER: u32 = 8192;

impl Default for TransportLimits {
    /// Frames of 64 KB, as most take them; messages of 16 MB, as large as an answer of a whole browse gets.
    fn default() -> Self {
        Self {
            receive_buffer: 65_536,
            send_buffer: 65_536,
            receive_message: 16 << 20,
            receive_chunks: 1024,
            send_message: 0,
            send_chunks: 0,
        }
    }
}

impl TransportLimits {
    /// The first word of a client.
    pub(crate) fn hello(&self, url: &str) -> Hello {
        Hello {
            protocol_version: 0,
            receive_buffer_size: self.receive_buffer,
            send_buffer_size: self.send_buffer,
            max_message_size: self.receive_message,
            max_chunk_count: self.receive_chunks,
            endpoint_url: Some(url.to_owned()),
        }
    }

    /// What a client keeps to after the server's answer; `None` when the server wants what is not allowed.
    pub(super) fn acknowledged(self, answer: &Acknowledge) -> Option<Self> {
        let is_allowed = answer.receive_buffer_size >= SMALLEST_BUFFER
            && answer.send_buffer_size >= SMALLEST_BUFFER
            && answer.send_buffer_size <= self.receive_buffer;
        is_allowed.then(|| Self {
            // What is more than we said we send is not asked of us.
            send_buffer: answer.receive_buffer_size.min(self.send_buffer),
            send_message: answer.max_message_size,
            send_chunks: answer.max_chunk_count,
            ..self
        })
    }

    /// What a server keeps to after the first word of a client, and its answer; `None` when the client wants what is not
    /// allowed.
    pub(super) fn greeted(self, hello: &Hello) -> Option<(Self, Acknowledge)> {
        if hello.receive_buffer_size < SMALLEST_BUFFER || hello.send_buffer_size < SMALLEST_BUFFER {
            return None;
        }
        let agreed = Self {
            receive_buffer: self.receive_buffer.min(hello.send_buffer_size),
            send_buffer: self.send_buffer.min(hello.receive_buffer_size),
            send_message: hello.max_message_size,
            send_chunks: hello.max_chunk_count,
            ..self
        };
        let answer = Acknowledge {
            protocol_version: 0,
            receive_buffer_size: agreed.receive_buffer,
            send_buffer_size: agreed.send_buffer,
            max_message_size: agreed.receive_message,
            max_chunk_count: agreed.receive_chunks,
        };
        Some((agreed, answer))
    }
}
