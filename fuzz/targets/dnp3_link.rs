//! What anybody puts on a line.
#![no_main]

use interlex_dnp3::{Assembler, FrameReader};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let (mut reader, mut assembler) = (FrameReader::default(), Assembler::new(2048));
    for part in data.chunks(13) {
        reader.push(part);
        while let Some(found) = reader.next_frame() {
            let Ok(frame) = found else { continue };
            let mut octets = Vec::new();
            frame.encode(&mut octets);
            let mut again = FrameReader::default();
            again.push(&octets);
            assert_eq!(again.next_frame(), Some(Ok(frame.clone())));
            if let Ok(Some(fragment)) = assembler.push(&frame.user_data) {
                assert!(fragment.len() <= 2048);
            }
        }
        assert!(reader.waiting() <= 292 + 13);
    }
});
