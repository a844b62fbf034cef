//! Whatever a cluster's objects, pull secrets and certificates hold is read or refused; what is read is
//! written so that it is read the same again.
#![no_main]

use larder_core::handoff::read_secrets;
use larder_core::{certificate, objects};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    certificate::read(text.as_bytes());
    let _ = read_secrets(text);
    for value in objects::read(text).unwrap_or_default() {
        if value["kind"] != "List" {
            assert_eq!(objects::read(&objects::write(&value)), Ok(vec![value]));
        }
    }
});
