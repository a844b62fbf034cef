//! A program of any bytes says the same, in whatever pieces it comes.
#![no_main]

use larder_core::inventory::ProgramReader;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let read = |pieces: usize| {
        let mut reader = ProgramReader::new(bytes.len() as u64);
        bytes.chunks(pieces).for_each(|piece| reader.feed(piece));
        reader.finish()
    };
    let whole = read(bytes.len().max(1));
    assert_eq!(read(7), whole);
    assert_eq!(read(64), whole);
});
