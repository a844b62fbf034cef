//! Any two texts are versions of an ecosystem or none; which comes first is the same from both sides.
#![no_main]

use larder_core::version::{Ecosystem, Version};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let (a, b) = text.split_once('\n').unwrap_or((text, ""));
    for ecosystem in Ecosystem::ALL {
        let (a, b) = (Version::read(ecosystem, a), Version::read(ecosystem, b));
        if let (Ok(a), Ok(b)) = (a, b) {
            assert_eq!(a.compare(&b), b.compare(&a).map(std::cmp::Ordering::reverse));
        }
    }
});
