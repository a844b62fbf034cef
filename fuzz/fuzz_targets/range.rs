//! A range never leaves the blob, and a chunk never ends before it begins.
#![no_main]

use larder_server::{RequestedRange, read_content_range, read_range};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (&str, u64)| {
    let (text, size) = input;
    if let RequestedRange::Part(range) = read_range(text, size) {
        assert!(range.start < range.end && range.end <= size);
    }
    if let Some((start, end)) = read_content_range(text) {
        assert!(start <= end && end - start < u64::MAX);
    }
});
