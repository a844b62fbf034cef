//! A database of RPM of any bytes ends, whatever its pages say.
#![no_main]

use larder_core::inventory::rpm_packages;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let at = bytes.first().map_or(0, |first| usize::from(*first) * bytes.len() / 256);
    let (database, log) = bytes.split_at(at);
    for bytes in [database, log, bytes] {
        let list = rpm_packages(bytes, log);
        assert!(list.packages.iter().all(|one| !one.name.is_empty() && !one.version.is_empty()));
    }
});
