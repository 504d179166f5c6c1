use crate::ascii::AsciiBuffer;
use crate::rtu::RtuBuffer;
use crate::{ExceptionCode, Frame, FrameDecoder, FrameError, Framing, Request, Response};

use std::time::Duration;

/// What answers requests behind a server: one or more units with their tables.
pub trait Units: Send + Sync {
    /// Answers a request with a response of its kind. A request to all units at once, on a serial line to unit 0, is
    /// carried out, and its response is not sent.
    ///
    /// # Errors
    /// [`Refusal`] says how it is refused.
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal>;

    /// How long a unit takes before its answer leaves; none, unless a slow device is played.
    fn delay(&self, unit: u8) -> Duration {
        let _ = unit;
        Duration::ZERO
    }
}

/// How a unit turns a request down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// With an exception.
    Exception(ExceptionCode),
    /// Not at all, as a unit that is not there or switched off.
    Silence,
}

impl From<ExceptionCode> for Refusal {
    fn from(code: ExceptionCode) -> Self {
        Self::Exception(code)
    }
}

/// The server of one connection or line, without I/O.
///
/// ```
/// use interlex_modbus::{ExceptionCode, FrameError, ReadData, Refusal, Request, Response, Server, Units};
///
/// #[derive(Debug)]
/// struct Thermometer;
///
/// impl Units for Thermometer {
///     fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
///         match request {
///             _ if unit != 5 => Err(Refusal::Silence),
///             Request::Read(read) if read.address() == 0 => Ok(Response::Data(ReadData::Registers(vec![215]))),
///             _ => Err(ExceptionCode::ILLEGAL_DATA_ADDRESS.into()),
///         }
///     }
/// }
///
/// let (mut server, mut answer) = (Server::default(), Vec::new());
/// server.handle_input(&[0, 1, 0, 0, 0, 6, 5, 4, 0, 0, 0, 1], &Thermometer, &mut answer)?;
/// assert_eq!(answer, [0, 1, 0, 0, 0, 5, 5, 4, 2, 0, 215]);
/// # Ok::<(), FrameError>(())
/// ```
#[derive(Debug, Default)]
pub struct Server {
    framing: Framing,
    decoder: FrameDecoder,
    rtu: RtuBuffer,
    ascii: AsciiBuffer,
    delay: Duration,
}

impl Server {
    /// A server for a stream with a framing; the default is Modbus TCP.
    #[must_use]
    pub fn new(framing: Framing) -> Self {
        Self { framing, ..Self::default() }
    }

    /// Takes in bytes from the client, however they were cut up, and appends the answers to `out`.
    ///
    /// # Errors
    /// [`FrameError`] when the stream cannot be Modbus TCP: close the connection.
    pub fn handle_input(&mut self, bytes: &[u8], units: &dyn Units, out: &mut Vec<u8>) -> Result<(), FrameError> {
        match self.framing {
            Framing::Tcp => {
                self.decoder.push(bytes);
                while let Some(frame) = self.decoder.next_frame()? {
                    answer(self.framing, frame, units, out);
                    self.delay = self.delay.max(units.delay(frame.unit));
                }
            }
            Framing::Rtu => {
                self.rtu.push(bytes);
                while let Some((unit, pdu)) = self.rtu.next_request() {
                    answer(self.framing, Frame { transaction: 0, unit, pdu: &pdu }, units, out);
                    self.delay = self.delay.max(units.delay(unit));
                }
            }
            Framing::Ascii => {
                self.ascii.push(bytes);
                while let Some((unit, pdu)) = self.ascii.next_frame() {
                    answer(self.framing, Frame { transaction: 0, unit, pdu: &pdu }, units, out);
                    self.delay = self.delay.max(units.delay(unit));
                }
            }
        }
        Ok(())
    }

    /// The line has been silent for the length of [`Framing::silence`]: what was begun ends here.
    pub fn handle_silence(&mut self, units: &dyn Units, out: &mut Vec<u8>) {
        if let Some((unit, pdu)) = self.rtu.end_of_frame() {
            answer(self.framing, Frame { transaction: 0, unit, pdu: &pdu }, units, out);
        }
    }

    /// How long to wait before what was appended is sent; asking forgets it.
    #[must_use]
    pub fn take_delay(&mut self) -> Duration {
        std::mem::take(&mut self.delay)
    }

    /// Whether something was begun that silence would end.
    #[must_use]
    pub fn is_inside_frame(&self) -> bool {
        !self.rtu.rest().is_empty()
    }
}

fn answer(framing: Framing, frame: Frame<'_>, units: &dyn Units, out: &mut Vec<u8>) {
    let mut pdu = Vec::new();
    let answered = match Request::decode(frame.pdu) {
        Ok(request) => units.answer(frame.unit, &request).and_then(|response| {
            let fits = request.encode_response(&response, &mut pdu);
            if fits { Ok(()) } else { Err(Refusal::Exception(ExceptionCode::SERVER_DEVICE_FAILURE)) }
        }),
        Err(invalid) => Err(Refusal::Exception(invalid.exception())),
    };
    if framing.has_broadcast() && frame.unit == 0 {
        return;
    }
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
