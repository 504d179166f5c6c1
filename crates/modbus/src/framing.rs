use crate::Frame;
use std::time::Duration;

/// How messages are put on a stream or a serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Framing {
    /// Modbus TCP: a header with transaction and length.
    #[default]
    Tcp,
    /// RTU frames, on a serial line or over a stream as serial device servers carry them. Nothing pairs an answer with
    /// its request but unit, function and order: after a timeout see [`ClientConfig::late_limit`](crate::ClientConfig).
    Rtu,
    /// ASCII frames: hexadecimal digits between a colon and an end of line. The same holds for late answers.
    Ascii,
}

impl Framing {
    /// Appends a message to `out`.
    ///
    /// ```
    /// use interlex_modbus::{Frame, Framing};
    ///
    /// let frame = Frame { transaction: 1, unit: 17, pdu: &[0x03, 0, 0x6B, 0, 3] };
    /// let wire = |framing: Framing| {
    ///     let mut wire = Vec::new();
    ///     framing.encode(frame, &mut wire);
    ///     wire
    /// };
    /// assert_eq!(wire(Framing::Tcp), [0, 1, 0, 0, 0, 6, 17, 0x03, 0, 0x6B, 0, 3]);
    /// assert_eq!(wire(Framing::Rtu), [17, 0x03, 0, 0x6B, 0, 3, 0x76, 0x87]);
    /// assert_eq!(wire(Framing::Ascii), b":1103006B00037E\r\n");
    /// ```
    pub fn encode(self, frame: Frame<'_>, out: &mut Vec<u8>) {
        match self {
            Self::Tcp => crate::encode_frame(frame, out),
            Self::Rtu => crate::rtu::encode(frame.unit, frame.pdu, out),
            Self::Ascii => crate::ascii::encode(frame.unit, frame.pdu, out),
        }
    }

    /// Unit and PDU of one whole frame on the wire; `None` when it is not whole.
    #[must_use]
    pub fn decode(self, wire: &[u8]) -> Option<(u8, Vec<u8>)> {
        match self {
            Self::Tcp => Some((*wire.get(6)?, wire.get(7..)?.to_vec())),
            Self::Rtu => {
                let mut buffer = crate::rtu::RtuBuffer::default();
                buffer.push(wire);
                buffer.end_of_frame()
            }
            Self::Ascii => {
                let mut buffer = crate::ascii::AsciiBuffer::default();
                buffer.push(wire);
                buffer.next_frame()
            }
        }
    }

    /// Whether it goes over a line that all units hear, where unit 0 is all of them.
    #[must_use]
    pub const fn has_broadcast(self) -> bool {
        matches!(self, Self::Rtu | Self::Ascii)
    }

    /// How long a line at this speed has to be silent before the next frame: 3.5 characters of 11 bits, and 1.75 ms
    /// above 19,200 baud. ASCII frames have marks of their own and need none.
    ///
    /// ```
    /// use interlex_modbus::Framing;
    /// use std::time::Duration;
    ///
    /// assert_eq!(Framing::Rtu.silence(9600).as_micros(), 4010);
    /// assert_eq!(Framing::Rtu.silence(115_200), Duration::from_micros(1750));
    /// ```
    ///
    /// Source: MODBUS over Serial Line V1.02, section 2.5.1.1.
    #[must_use]
    pub fn silence(self, baud: u32) -> Duration {
        match self {
            Self::Tcp | Self::Ascii => Duration::ZERO,
            Self::Rtu if baud > 19_200 => Duration::from_micros(1750),
            Self::Rtu => Duration::from_secs(77) / (2 * baud.max(1)),
        }
    }
}
