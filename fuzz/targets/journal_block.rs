//! Any bytes as a block of the journal: what is read is read again from what is written of it.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| interlex_uplink::read_any_block(data));
