//! Whatever is read the quick way is what the parser reads.
#![no_main]

use larder_yaml::is_quick;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    is_quick(text);
});
