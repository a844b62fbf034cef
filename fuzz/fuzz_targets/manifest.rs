//! A document that is read keeps its bytes and names only what has a digest.
#![no_main]

use larder_core::document::{DESCRIPTOR_LIMIT, Document};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(document) = Document::read(bytes.to_vec().into(), None) {
        assert_eq!(document.bytes, bytes);
        assert!(document.descriptors().count() <= DESCRIPTOR_LIMIT + 2);
        for one in document.descriptors() {
            assert!(one.digest.hex().bytes().all(|b| b.is_ascii_hexdigit()));
        }
    }
});
