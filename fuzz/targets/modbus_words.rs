//! Any bytes, told in words; and any registers, taken for SunSpec models.
#![no_main]

use interlex_modbus::{Framing, SunSpecWalk, describe_request, describe_response};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let (one, two) = data.split_at(data.len() / 2);
    _ = (describe_request(data), describe_response(two, Some(one)), describe_response(data, None));
    for framing in [Framing::Tcp, Framing::Rtu, Framing::Ascii] {
        _ = framing.decode(data);
    }
    let registers: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
    let (mut walk, mut steps) = (SunSpecWalk::new(), 0);
    while let Some(request) = walk.next_request() {
        let (from, count) = (usize::from(request.address()) % (registers.len() + 1), usize::from(request.quantity()));
        walk.answer(registers.get(from..from + count));
        steps += 1;
        assert!(steps < 10_000, "a walk has an end");
    }
    _ = walk.found();
});
