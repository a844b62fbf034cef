//! Whatever a registry answers as its challenge is read or refused.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|header: &str| {
    let _ = larder_client::Challenge::strongest([header]);
});
