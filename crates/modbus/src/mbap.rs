/// The largest PDU: 253 bytes, so that unit identifier and PDU fit the 254 of the length field.
///
/// Source: MODBUS Application Protocol V1.1b3, section 4.1.
pub const MAX_PDU: usize = 253;

const HEADER: usize = 7;
/// The least that the length field may say: unit identifier and function code.
const MIN_LENGTH: usize = 2;
const MAX_LENGTH: usize = MAX_PDU + 1;

/// One message of Modbus TCP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// Pairs an answer with its request.
    pub transaction: u16,
    /// The unit behind the connection.
    pub unit: u8,
    /// Function code and data; 1 to [`MAX_PDU`] bytes.
    pub pdu: &'a [u8],
}

/// A stream that is of no more use: where the next message starts is unknown, or nobody at the other end answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    /// The protocol identifier is not that of Modbus.
    #[error("protocol identifier is {0}, Modbus has 0")]
    ProtocolIdentifier(u16),
    /// The length field is outside what unit identifier and PDU can take.
    #[error("length is {0}, possible are {MIN_LENGTH} to {MAX_LENGTH}")]
    Length(u16),
    /// More came than a device may say without being asked.
    #[error("{0} bytes came that answer nothing that was asked")]
    Flood(usize),
}

/// Appends a message to `out`.
///
/// Source: MODBUS Messaging on TCP/IP V1.0b, section 3.1.3 (MBAP header).
pub fn encode_frame(frame: Frame<'_>, out: &mut Vec<u8>) {
    let length = u16::try_from(frame.pdu.len() + 1).unwrap_or(u16::MAX);
    out.extend_from_slice(&frame.transaction.to_be_bytes());
    out.extend_from_slice(&[0, 0]);
    out.extend_from_slice(&length.to_be_bytes());
    out.push(frame.unit);
    out.extend_from_slice(frame.pdu);
}

/// Cuts a stream of bytes into messages, however TCP delivered them.
///
/// It never holds more than one message and what arrived with it: the length is checked as soon as it is there.
///
/// ```
/// use interlex_modbus::{FrameDecoder, FrameError};
///
/// let mut decoder = FrameDecoder::default();
/// // An answer, cut in two by TCP, with the first byte of the next one behind it.
/// decoder.push(&[0, 7, 0, 0, 0, 3, 9]);
/// assert!(decoder.next_frame()?.is_none());
/// decoder.push(&[0x83, 0x02, 0]);
/// let frame = decoder.next_frame()?.expect("it is whole");
/// assert_eq!((frame.transaction, frame.unit, frame.pdu), (7, 9, &[0x83, 0x02][..]));
/// assert!(decoder.next_frame()?.is_none());
/// # Ok::<(), FrameError>(())
/// ```
#[derive(Debug, Default)]
pub struct FrameDecoder {
    buffer: Vec<u8>,
    taken: usize,
}

impl FrameDecoder {
    /// Takes in bytes from the stream.
    pub fn push(&mut self, bytes: &[u8]) {
        self.buffer.drain(..self.taken);
        self.taken = 0;
        self.buffer.extend_from_slice(bytes);
    }

    /// Forgets everything, for a new connection.
    pub fn clear(&mut self) {
        self.buffer.clear();
        self.taken = 0;
    }

    /// The next whole message, or `None` until more bytes are there. Call it until it gives `None`.
    ///
    /// # Errors
    /// [`FrameError`] when the stream cannot be Modbus TCP; it stays so until [`FrameDecoder::clear`].
    pub fn next_frame(&mut self) -> Result<Option<Frame<'_>>, FrameError> {
        let rest = self.buffer.get(self.taken..).unwrap_or_default();
        let [t1, t0, p1, p0, l1, l0, ..] = *rest else { return Ok(None) };
        let protocol = u16::from_be_bytes([p1, p0]);
        if protocol != 0 {
            return Err(FrameError::ProtocolIdentifier(protocol));
        }
        let length = u16::from_be_bytes([l1, l0]);
        if !(MIN_LENGTH..=MAX_LENGTH).contains(&usize::from(length)) {
            return Err(FrameError::Length(length));
        }
        let end = HEADER - 1 + usize::from(length);
        let (Some(unit), Some(pdu)) = (rest.get(HEADER - 1), rest.get(HEADER..end)) else { return Ok(None) };
        self.taken += end;
        Ok(Some(Frame { transaction: u16::from_be_bytes([t1, t0]), unit: *unit, pdu }))
    }
}
