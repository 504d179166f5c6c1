//! Any bytes as a payload: what is read is read again from what is written of it.
#![no_main]

use interlex_sparkplug::{check_payload, decode_payload, encode_payload};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(payload) = decode_payload(data) else { return };
    _ = check_payload(&payload);
    let written = encode_payload(&payload);
    let again = decode_payload(&written).map(|payload| encode_payload(&payload));
    assert_eq!(again.ok(), Some(written));
});
