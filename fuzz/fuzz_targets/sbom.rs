//! A bill of materials of any bytes is read or refused; so are package URLs, and what is written is read the same.
#![no_main]

use larder_core::purl::PackageUrl;
use larder_core::sbom::read_sbom;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let _read = read_sbom(bytes);
    if let Some(url) = std::str::from_utf8(bytes).ok().and_then(|text| text.parse::<PackageUrl>().ok()) {
        assert_eq!(url.to_string().parse::<PackageUrl>(), Ok(url));
    }
});
