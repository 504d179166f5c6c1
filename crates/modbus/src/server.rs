use crate::{ExceptionCode, Frame, FrameDecoder, FrameError, ReadData, ReadRequest, encode_frame};

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
    decoder: FrameDecoder,
}

impl Server {
    /// Takes in bytes from the client, however TCP cut them up, and appends the answers to `out`.
    ///
    /// # Errors
    /// [`FrameError`] when the stream cannot be Modbus TCP: close the connection.
    pub fn handle_input(&mut self, bytes: &[u8], units: &dyn Units, out: &mut Vec<u8>) -> Result<(), FrameError> {
        self.decoder.push(bytes);
        let mut pdu = Vec::new();
        while let Some(frame) = self.decoder.next_frame()? {
            pdu.clear();
            let answered = match ReadRequest::decode(frame.pdu) {
                Ok(request) => units.read(frame.unit, request).map(|data| request.encode_response(&data, &mut pdu)),
                Err(invalid) => Err(Refusal::Exception(invalid.exception())),
            };
            match answered {
                Ok(()) => {}
                Err(Refusal::Silence) => continue,
                Err(Refusal::Exception(code)) => {
                    let function = frame.pdu.first().copied().unwrap_or_default();
                    pdu.extend_from_slice(&[function | 0x80, code.0]);
                }
            }
            encode_frame(Frame { pdu: &pdu, ..frame }, out);
        }
        Ok(())
    }
}
