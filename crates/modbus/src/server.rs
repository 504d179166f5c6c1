use crate::rtu::RtuBuffer;
use crate::{ExceptionCode, Frame, FrameDecoder, FrameError, Framing, ReadData, ReadRequest};

/// What answers requests behind a server: one or more units with their tables.
pub trait Units: Send + Sync {
    /// Answers a read.
    ///
    /// # Errors
    /// [`Refusal`] says how it is refused.
    fn read(&self, unit: u8, request: ReadRequest) -> Result<ReadData, Refusal>;
}

/// How a unit turns a request down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// With an exception.
    Exception(ExceptionCode),
    /// Not at all, as a unit that is not there or switched off.
    Silence,
}

/// The server of one connection, without I/O.
#[derive(Debug, Default)]
pub struct Server {
    framing: Framing,
    decoder: FrameDecoder,
    rtu: RtuBuffer,
}

impl Server {
    /// A server for a stream with a framing; the default is Modbus TCP.
    #[must_use]
    pub fn new(framing: Framing) -> Self {
        Self { framing, ..Self::default() }
    }

    /// Takes in bytes from the client, however TCP cut them up, and appends the answers to `out`.
    ///
    /// # Errors
    /// [`FrameError`] when the stream cannot be Modbus TCP: close the connection.
    pub fn handle_input(&mut self, bytes: &[u8], units: &dyn Units, out: &mut Vec<u8>) -> Result<(), FrameError> {
        match self.framing {
            Framing::Tcp => {
                self.decoder.push(bytes);
                while let Some(frame) = self.decoder.next_frame()? {
                    answer(self.framing, frame, units, out);
                }
            }
            Framing::Rtu => {
                self.rtu.push(bytes);
                while let Some((unit, pdu)) = self.rtu.next_request() {
                    answer(self.framing, Frame { transaction: 0, unit, pdu: &pdu }, units, out);
                }
            }
        }
        Ok(())
    }
}

fn answer(framing: Framing, frame: Frame<'_>, units: &dyn Units, out: &mut Vec<u8>) {
    let mut pdu = Vec::new();
    let answered = match ReadRequest::decode(frame.pdu) {
        Ok(request) => units.read(frame.unit, request).map(|data| request.encode_response(&data, &mut pdu)),
        Err(invalid) => Err(Refusal::Exception(invalid.exception())),
    };
    match answered {
        Ok(()) => {}
        Err(Refusal::Silence) => return,
        Err(Refusal::Exception(code)) => {
            let function = frame.pdu.first().copied().unwrap_or_default();
            pdu.extend_from_slice(&[function | 0x80, code.0]);
        }
    }
    framing.encode(Frame { pdu: &pdu, ..frame }, out);
}
