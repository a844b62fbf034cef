//! What a request brings along to sign in, and the form of the token end point.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    larder_server::fuzzing::authorization(bytes);
    if let Ok(text) = std::str::from_utf8(bytes) {
        larder_server::fuzzing::token_form(text);
        larder_server::fuzzing::forwarded(text);
    }
});
