use std::fmt;

/// What a frame is.
///
/// Source: OPC 10000-6, section 7.1.2.2 (table 51), and section 6.7.2.2 (table 42).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MessageType {
    /// The first word of a client.
    Hello,
    /// The server's answer to it.
    Acknowledge,
    /// The last word of a server.
    Error,
    /// The first word of a server that connects to a client.
    ReverseHello,
    /// Opens a secure channel, or renews its token.
    OpenChannel,
    /// A message over a channel.
    Message,
    /// Ends a channel.
    CloseChannel,
}

/// Which part of a message a frame has.
///
/// Source: OPC 10000-6, section 6.7.2.2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ChunkType {
    /// The last one, or all of it.
    Final,
    /// One that others follow.
    Intermediate,
    /// None: whoever sends it gives up, and tells why.
    Abort,
}

/// A whole frame.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// What it is.
    pub message: MessageType,
    /// Which part.
    pub chunk: ChunkType,
    /// All of its bytes, those of the header too: they are a part of what is signed.
    pub bytes: Vec<u8>,
}

/// Bytes that cannot be the beginning of a frame. The connection is of no use any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    /// A message type that there is not.
    #[error("no OPC UA: the message type is {:?}", Printed(.0))]
    Type([u8; 3]),
    /// A part that there is not.
    #[error("no part of a message is called {:?}", Printed(&[*.0]))]
    Chunk(u8),
    /// Shorter than its own header.
    #[error("a frame of {0} bytes is shorter than its header")]
    TooShort(u32),
    /// Longer than was agreed.
    #[error("a frame of {size} bytes, where {most} were agreed")]
    TooLong {
        /// What it says.
        size: u32,
        /// What was agreed.
        most: usize,
    },
}

struct Printed<'a>(&'a [u8]);

impl fmt::Debug for Printed<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0.escape_ascii())
    }
}

const HEADER: usize = 8;

impl MessageType {
    const ALL: [(Self, [u8; 3]); 7] = [
        (Self::Hello, *b"HEL"),
        (Self::Acknowledge, *b"ACK"),
        (Self::Error, *b"ERR"),
        (Self::ReverseHello, *b"RHE"),
        (Self::OpenChannel, *b"OPN"),
        (Self::Message, *b"MSG"),
        (Self::CloseChannel, *b"CLO"),
    ];

    const fn code(self) -> [u8; 3] {
        match self {
            Self::Hello => *b"HEL",
            Self::Acknowledge => *b"ACK",
            Self::Error => *b"ERR",
            Self::ReverseHello => *b"RHE",
            Self::OpenChannel => *b"OPN",
            Self::Message => *b"MSG",
            Self::CloseChannel => *b"CLO",
        }
    }

    fn from_code(code: [u8; 3]) -> Option<Self> {
        Self::ALL.iter().find(|(_, known)| *known == code).map(|(message, _)| *message)
    }
}

impl ChunkType {
    const fn code(self) -> u8 {
        match self {
            Self::Final => b'F',
            Self::Intermediate => b'C',
            Self::Abort => b'A',
        }
    }

    fn from_code(code: u8) -> Option<Self> {
        [Self::Final, Self::Intermediate, Self::Abort].into_iter().find(|chunk| chunk.code() == code)
    }
}

/// Appends a frame with its header.
pub fn encode_frame(message: MessageType, chunk: ChunkType, body: &[u8], out: &mut Vec<u8>) {
    begin_frame(message, chunk, body.len(), out);
    out.extend_from_slice(body);
}

/// Appends the header of a frame whose body has so many bytes. What is longer than a header can tell is no frame of ours.
pub(crate) fn begin_frame(message: MessageType, chunk: ChunkType, body: usize, out: &mut Vec<u8>) {
    out.extend_from_slice(&message.code());
    out.push(chunk.code());
    out.extend_from_slice(&u32::try_from(HEADER + body).unwrap_or(u32::MAX).to_le_bytes());
}

/// Cuts a stream into frames, however TCP cuts it up.
#[derive(Debug)]
pub struct FrameDecoder {
    buffer: Vec<u8>,
    /// How many bytes of it were given out.
    done: usize,
    most: usize,
}

impl FrameDecoder {
    /// One that takes frames of so many bytes at the most.
    #[must_use]
    pub const fn new(most: usize) -> Self {
        Self { buffer: Vec::new(), done: 0, most }
    }

    /// Another limit was agreed.
    pub const fn limit(&mut self, most: usize) {
        self.most = most;
    }

    /// Takes bytes in.
    pub fn push(&mut self, bytes: &[u8]) {
        self.buffer.drain(..std::mem::take(&mut self.done));
        self.buffer.extend_from_slice(bytes);
    }

    /// Whether a part of a frame has come, and the rest has not.
    #[must_use]
    pub const fn is_in_the_middle(&self) -> bool {
        self.buffer.len() > self.done
    }

    /// The next whole frame; `None` while it is not all there. Poll it after every [`FrameDecoder::push`] until then.
    ///
    /// # Errors
    /// As soon as the bytes cannot become a frame that is taken.
    pub fn poll_frame(&mut self) -> Result<Option<Frame>, FrameError> {
        let rest = self.buffer.get(self.done..).unwrap_or_default();
        let Some((header, _)) = rest.split_first_chunk::<HEADER>() else { return Ok(None) };
        let [a, b, c, part, size @ ..] = *header;
        let message = MessageType::from_code([a, b, c]).ok_or(FrameError::Type([a, b, c]))?;
        let chunk = ChunkType::from_code(part).ok_or(FrameError::Chunk(part))?;
        let size = u32::from_le_bytes(size);
        let length = usize::try_from(size).unwrap_or(usize::MAX);
        if length < HEADER {
            return Err(FrameError::TooShort(size));
        }
        if length > self.most {
            return Err(FrameError::TooLong { size, most: self.most });
        }
        let Some(bytes) = rest.get(..length).map(<[u8]>::to_vec) else { return Ok(None) };
        self.done += length;
        Ok(Some(Frame { message, chunk, bytes }))
    }
}

impl Frame {
    /// What follows its header.
    #[must_use]
    pub fn body(&self) -> &[u8] {
        self.bytes.get(HEADER..).unwrap_or_default()
    }
}
