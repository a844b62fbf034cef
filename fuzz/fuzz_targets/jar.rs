//! An archive of Java of any bytes is read within its bounds.
#![no_main]

use larder_core::inventory::java_artifacts;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let (found, _) = java_artifacts("a.jar", bytes);
    assert!(found.iter().all(|(path, one)| path.starts_with("a.jar") && !one.version.is_empty()));
});
