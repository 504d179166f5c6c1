//! A client that sends anything, in any pieces.
#![no_main]

use interlex_modbus::{ExceptionCode, Framing, ReadData, Refusal, Request, Response, Server, Units};
use libfuzzer_sys::fuzz_target;

struct Answering;

impl Units for Answering {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        match request {
            Request::Read(read) if read.table().is_bits() => {
                Ok(Response::Data(ReadData::Bits(vec![true; usize::from(read.quantity())])))
            }
            Request::Read(read) => {
                Ok(Response::Data(ReadData::Registers(vec![unit.into(); usize::from(read.quantity())])))
            }
            Request::Write(_) => Ok(Response::Written),
            _ => Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
        }
    }
}

fuzz_target!(|data: &[u8]| {
    let [framing, piece, rest @ ..] = data else { return };
    let framing = [Framing::Tcp, Framing::Rtu, Framing::Ascii][usize::from(*framing) % 3];
    let (mut server, mut out) = (Server::new(framing), Vec::new());
    for bytes in rest.chunks(usize::from(*piece).max(1)) {
        if server.handle_input(bytes, &Answering, &mut out).is_err() {
            return;
        }
        server.handle_silence(&Answering, &mut out);
        assert!(out.len() <= 300 * (bytes.len() + 300), "answers are in proportion to what is asked");
        out.clear();
    }
});
